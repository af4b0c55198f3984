"""Draws the pier's board on the screen of the machine."""

import glob
import select
import struct
import sys
import time

PAGES = [
    ("SKERRY FERRIES", [("06:40", "LAMB ISLAND", "1"), ("08:30", "FAR SKERRY", "2"), ("11:20", "LAMB ISLAND", "1"), ("15:45", "FAR SKERRY", "2"), ("18:30", "LAMB ISLAND", "1")]),
    ("TIDES TODAY", [("04:12", "HIGH 3.1 M", ""), ("10:27", "LOW 0.7 M", ""), ("16:38", "HIGH 3.4 M", ""), ("22:51", "LOW 0.5 M", "")]),
]
SEA, SAND, LAMP = (24, 54, 66), (240, 234, 218), (222, 150, 60)

# Each letter is seven rows of five dots.
LETTERS = {
    "A": "0e11111f111111", "B": "1e11111e11111e", "C": "0e11101010110e", "D": "1e11111111111e", "E": "1f10101e10101f", "F": "1f10101e101010",
    "G": "0e11101713110f", "H": "1111111f111111", "I": "0e04040404040e", "J": "0702020202120c", "K": "11121418141211", "L": "1010101010101f",
    "M": "111b1515111111", "N": "11191513111111", "O": "0e11111111110e", "P": "1e11111e101010", "Q": "0e11111115120d", "R": "1e11111e141211",
    "S": "0f10100e01011e", "T": "1f040404040404", "U": "1111111111110e", "V": "11111111110a04", "W": "1111111515150a", "X": "11110a040a1111",
    "Y": "11110a04040404", "Z": "1f01020408101f", "0": "0e11131519110e", "1": "040c040404040e", "2": "0e11010204081f", "3": "1f02040201110e",
    "4": "02060a121f0202", "5": "1f101e0101110e", "6": "0608101e11110e", "7": "1f010204080808", "8": "0e11110e11110e", "9": "0e11110f01020c",
    ":": "00040400040400", ".": "0000000000000c", " ": "00000000000000",
}


def said(name):
    with open("/sys/class/graphics/fb0/" + name) as f:
        return f.read().strip()


class Screen:
    def __init__(self):
        self.width, self.height = map(int, said("virtual_size").split(","))
        self.line = int(said("stride"))
        self.dots = bytearray(self.line * self.height)

    def box(self, x, y, width, height, colour):
        row = struct.pack("BBBB", colour[2], colour[1], colour[0], 0) * width
        for at in range(y, y + height):
            self.dots[at * self.line + 4 * x : at * self.line + 4 * (x + width)] = row

    def write(self, x, y, text, dot, colour):
        for letter in text:
            rows = bytes.fromhex(LETTERS.get(letter, LETTERS[" "]))
            for down, row in enumerate(rows):
                for across in range(5):
                    if row >> (4 - across) & 1:
                        self.box(x + across * dot, y + down * dot, dot, dot, colour)
            x += 6 * dot

    def show(self):
        with open("/dev/fb0", "r+b", buffering=0) as f:
            f.write(self.dots)


def draw(page):
    title, rows = PAGES[page]
    screen = Screen()
    screen.box(0, 0, screen.width, screen.height, SEA)
    screen.box(0, 0, screen.width, 150, SAND)
    screen.write(60, 45, title, 9, SEA)
    for number, (at, where, pier) in enumerate(rows):
        y = 210 + 110 * number
        screen.write(60, y, at, 8, LAMP)
        screen.write(360, y, where, 8, SAND)
        screen.write(screen.width - 110, y, pier, 8, LAMP)
    screen.show()


def drawn():
    for _ in range(50):
        with open("/dev/fb0", "rb") as f:
            if tuple(f.read(3)[::-1]) == SAND:
                return True
        time.sleep(0.2)
    return False


def turn():
    page = 0
    draw(page)
    keys = [open(name, "rb", buffering=0) for name in sorted(glob.glob("/dev/input/event*"))]
    while True:
        for key in select.select(keys, [], [])[0]:
            kind, _, value = struct.unpack("16xHHi", key.read(24))
            if kind == 1 and value == 1:
                page = (page + 1) % len(PAGES)
                draw(page)


if "--shown" in sys.argv:
    sys.exit(0 if drawn() else 1)
if "--once" in sys.argv:
    draw(0)
else:
    turn()
