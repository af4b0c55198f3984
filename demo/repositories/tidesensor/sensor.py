"""Answers the water's height at the quay, as the sensor on the serial line tells it."""
import os
from http.server import BaseHTTPRequestHandler, HTTPServer

LINE = os.environ.get("SENSOR_LINE", "/dev/ttyUSB0")


def height():
    with open(LINE) as f:
        return float(f.readline().removeprefix("H=").removesuffix("cm\n")) / 100


class Handler(BaseHTTPRequestHandler):
    def do_GET(self):
        data = f"{height():.2f} m\n".encode()
        self.send_response(200)
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)


if __name__ == "__main__":
    HTTPServer(("127.0.0.1", 8070), Handler).serve_forever()
