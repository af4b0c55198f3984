"""What a crossing costs."""

ADULT = {"Lamb Island": 4.20, "Far Skerry": 9.80}


def fare(harbour, age=30, bicycle=False):
    """The price of a single crossing, in euros."""
    price = ADULT[harbour]
    if age < 6:
        price = 0.0
    elif age < 16 or age >= 67:
        price = price / 2
    if bicycle:
        price += 2.0
    return round(price, 2)


if __name__ == "__main__":
    for harbour in ADULT:
        print(f"{harbour}: {fare(harbour):.2f} EUR, with a bicycle {fare(harbour, bicycle=True):.2f} EUR")
