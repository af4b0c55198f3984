"""The board on the quay: the next departures, from the database."""
import subprocess
import sys

ROWS = [("06:40", "Lamb Island"), ("08:30", "Far Skerry"), ("11:20", "Lamb Island")]


def sql(text):
    return subprocess.run(["psql", "-h", "db", "-U", "postgres", "-Atc", text], check=True, capture_output=True, text=True).stdout


if __name__ == "__main__" and "--initialise" in sys.argv:
    sql("CREATE TABLE IF NOT EXISTS departures (departs text PRIMARY KEY, harbour text NOT NULL)")
    for departs, harbour in ROWS:
        sql(f"INSERT INTO departures VALUES ('{departs}', '{harbour}') ON CONFLICT DO NOTHING")
