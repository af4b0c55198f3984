"""The board on the quay: the next departures, from the database."""
import json
import subprocess
import sys
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

ROWS = [("06:40", "Lamb Island"), ("08:30", "Far Skerry"), ("11:20", "Lamb Island")]


def sql(text):
    return subprocess.run(["psql", "-h", "db", "-U", "postgres", "-Atc", text], check=True, capture_output=True, text=True).stdout


def departures():
    return [dict(zip(("departs", "harbour"), line.split("|"))) for line in sql("SELECT departs, harbour FROM departures ORDER BY departs").splitlines()]


def initialise():
    sql("CREATE TABLE IF NOT EXISTS departures (departs text PRIMARY KEY, harbour text NOT NULL)")
    for departs, harbour in ROWS:
        sql(f"INSERT INTO departures VALUES ('{departs}', '{harbour}') ON CONFLICT DO NOTHING")
    print(f"{len(departures())} departures are in the database")


class Handler(BaseHTTPRequestHandler):
    def do_GET(self):
        data = json.dumps(departures()).encode()
        self.send_response(200)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)


if __name__ == "__main__":
    if "--initialise" in sys.argv:
        initialise()
    else:
        ThreadingHTTPServer(("127.0.0.1", 8000), Handler).serve_forever()
