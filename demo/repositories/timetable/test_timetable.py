import datetime
import unittest

from timetable import sailings


class Sailings(unittest.TestCase):
    def test_weekdays_and_weekends_differ(self):
        wednesday, saturday = datetime.date(2026, 7, 1), datetime.date(2026, 7, 4)
        self.assertEqual(len(sailings(wednesday)), 7)
        self.assertEqual(len(sailings(saturday)), 6)

    def test_in_order_of_departure(self):
        times = [s["departs"] for s in sailings(datetime.date(2026, 7, 1))]
        self.assertEqual(times, sorted(times))

    def test_from_one_harbour(self):
        day = datetime.date(2026, 7, 1)
        self.assertEqual({s["from"] for s in sailings(day, "Far Skerry")}, {"Far Skerry"})


if __name__ == "__main__":
    unittest.main()
