"""Answers the sailings of the Skerry ferries as JSON."""
import csv
import datetime
import json
import os
import pathlib
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from urllib.parse import parse_qs, urlsplit

SAILINGS = pathlib.Path(__file__).with_name("sailings.csv")


def sailings(day, harbour=None):
    """The sailings of a day, in order of departure."""
    weekday = "weekend" if day.weekday() >= 5 else "weekday"
    with SAILINGS.open(newline="") as f:
        rows = [r for r in csv.DictReader(f) if r["runs"] in (weekday, "daily")]
    if harbour:
        rows = [r for r in rows if r["from"] == harbour]
    return sorted(({k: r[k] for k in ("departs", "from", "to", "ship")} for r in rows), key=lambda r: r["departs"])


class Handler(BaseHTTPRequestHandler):
    def do_GET(self):
        url = urlsplit(self.path)
        query = parse_qs(url.query)
        try:
            day = datetime.date.fromisoformat(query["day"][0]) if "day" in query else datetime.date.today()
        except ValueError:
            self.answer(400, {"error": "day must be written as 2026-07-01"})
            return
        if url.path != "/sailings":
            self.answer(404, {"error": "ask for /sailings"})
            return
        self.answer(200, {"line": os.environ.get("SKERRY_LINE"), "day": day.isoformat(), "sailings": sailings(day, query.get("from", [None])[0])})

    def answer(self, status, body):
        data = json.dumps(body).encode()
        self.send_response(status)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)


if __name__ == "__main__":
    ThreadingHTTPServer(("127.0.0.1", 8080), Handler).serve_forever()
