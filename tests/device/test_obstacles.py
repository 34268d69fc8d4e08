"""What stands between a machine and a device, in plain words with the value that would fit."""

import datetime
import unittest

from direkt.device import obstacles
from direkt.device.obstacles import Here
from direkt.device.state import DeviceClock, Network

HERE = Here((("127.0.0.1", 8), ("192.0.2.10", 24)), "192.0.2.1", ("192.0.2.53",))
NOW = datetime.datetime(2026, 11, 28, tzinfo=datetime.UTC)
RIGHT = DeviceClock(NOW, 0.0, True, ("192.0.2.123",))


def network(**more) -> Network:
    return Network(
        **{
            "interface": "eth0", "address": "192.0.2.64", "prefix": 24, "dhcp": False, "gateways": ("192.0.2.1",),
            "dns": ("192.0.2.53",), **more,
        }
    )


class Obstacles(unittest.TestCase):
    def test_addresses(self):
        self.assertEqual(obstacles.of_address("192.0.2.64", HERE), "")
        self.assertEqual(obstacles.of_address("127.0.0.9", HERE), "")
        self.assertEqual(obstacles.of_address("not an address", HERE), "")
        other = obstacles.of_address("198.51.100.64", HERE, ["198.51.100.254"])
        self.assertIn("another network (198.51.100.0/24) than this machine (192.0.2.10/24)", other)
        self.assertIn("give this machine 198.51.100.253/24 as well, or set the device to one such as 192.0.2.254/24", other)
        itself = obstacles.of_address("169.254.7.9", HERE)
        self.assertIn("since nobody gave it an address: give this machine 169.254.7.254/16", itself)
        self.assertIn("no address", obstacles.of_address("198.51.100.64", Here((("127.0.0.1", 8),))))

    def test_masks_gateways_names_and_clocks(self):
        self.assertEqual(obstacles.of_network(network(), HERE, RIGHT), [])
        for change, clock, words in (
            ({"prefix": 16}, RIGHT, "its mask is /16, this machine's is /24: set /24"), ({"gateways": ()}, RIGHT, "it has no gateway: it reaches nothing outside its network: set 192.0.2.1"),
            ({"gateways": ("198.51.100.1",)}, RIGHT, "its gateway 198.51.100.1 is not in its network 192.0.2.0/24: set 192.0.2.1"),
            ({"gateways": ("192.0.2.64",)}, RIGHT, "is not in its network"), ({"gateways": ("192.0.2.254",)}, RIGHT, "this machine's is 192.0.2.1: check which one leads out"),
            ({"dns": ()}, RIGHT, "no name server: it cannot look up an ingest by name; give it one, such as 192.0.2.53"),
            ({}, DeviceClock(NOW, -5400.0, True, ("x",)), "its clock is 90 min behind"), ({}, DeviceClock(NOW, 0.0, False, ()), "follows no NTP server"),
            ({}, DeviceClock(NOW, 0.0, True, ()), "but no server is set"), ({}, DeviceClock(None, None, True, ("x",)), "cannot be read"),
        ):  # fmt: skip
            found = obstacles.of_network(network(**change), HERE, clock)
            self.assertEqual(len(found), 1, found)
            self.assertIn(words, found[0])
        # a mask that is far too narrow hides the gateway as well
        narrow = obstacles.of_network(network(prefix=30), HERE, RIGHT)
        self.assertIn("its mask is /30, this machine's is /24: set /24", narrow)
        self.assertTrue(any("is not in its network 192.0.2.64/30" in words for words in narrow))

    def test_free_addresses(self):
        tiny = obstacles.IPv4Network("192.0.2.0/30")
        self.assertEqual(obstacles.free_address(tiny, []), "192.0.2.2")
        self.assertEqual(obstacles.free_address(tiny, ["192.0.2.2", "192.0.2.1"]), "")


if __name__ == "__main__":
    unittest.main()
