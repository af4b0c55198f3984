import unittest

from fares import fare


class Fares(unittest.TestCase):
    def test_children_and_elders_pay_half(self):
        self.assertEqual(fare("Lamb Island", age=10), 2.10)
        self.assertEqual(fare("Lamb Island", age=70), 2.10)

    def test_infants_travel_free_but_bicycles_do_not(self):
        self.assertEqual(fare("Far Skerry", age=3, bicycle=True), 2.0)
