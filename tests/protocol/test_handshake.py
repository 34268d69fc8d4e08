import unittest

from direkt.protocol.rtmp.errors import RtmpError
from direkt.protocol.rtmp.handshake import SIZE, Handshake

A, B = bytes([7]) * (SIZE - 8), bytes([9]) * (SIZE - 8)


class Shaking(unittest.TestCase):
    def test_both_ends_finish_in_pieces_of_any_size(self):
        for step in (1, 700, 5000):
            client, server = Handshake(client=True, random=A), Handshake(client=False, random=B)
            to_server, to_client = client.start(), b""
            for _ in range(4):
                for at in range(0, len(to_server), step):
                    to_client += server.receive(to_server[at : at + step])
                to_server = b""
                for at in range(0, len(to_client), step):
                    to_server += client.receive(to_client[at : at + step])
                to_client = b""
            self.assertTrue(client.done and server.done)
            self.assertEqual((client.sent, server.sent), (2 * SIZE + 1, 2 * SIZE + 1))

    def test_the_echo_is_the_peers_own(self):
        server = Handshake(client=False, random=B, time=5)
        answer = server.receive(b"\x03" + b"\0\0\0\x2a" + bytes(4) + A)
        self.assertEqual(answer[0], 3)
        self.assertEqual(answer[1:5], b"\0\0\0\5")
        self.assertEqual(answer[1 + SIZE : 5 + SIZE], b"\0\0\0\x2a")
        self.assertEqual(answer[9 + SIZE :], A)

    def test_what_follows_is_kept(self):
        server = Handshake(client=False, random=B)
        server.receive(b"\x03" + bytes(2 * SIZE) + b"chunks")
        self.assertEqual((server.done, server.rest(), server.rest()), (True, b"chunks", b""))

    def test_versions_and_mistakes(self):
        for first, words in ((b"\x06", "0x06"), (b"\x16\x03\x01", "TLS"), (b"POST /", "HTTP")):
            with self.assertRaisesRegex(RtmpError, words):
                Handshake(client=False, random=B).receive(first)
        with self.assertRaises(ValueError):
            Handshake(client=True, random=b"short")
