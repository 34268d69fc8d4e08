"""The spectrum codebooks of ISO/IEC 14496-3, Tables 4.A.2 to 4.A.12: how quantised values are coded.

A codebook's row is the number of bits of each code word, then the code words in hexadecimal. The index counts values up
like digits, the first value highest: from -largest where values have their signs in the code, from 0 where each value
that is not 0 is followed by a sign bit.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Book:
    """A codebook (ISO/IEC 14496-3, Table 4.95)."""

    size: int  # values in a code word
    signed: bool  # the code word tells signs
    largest: int  # a value's magnitude; 16 in book 11 stands for more
    lengths: tuple[int, ...]  # bits
    codes: tuple[int, ...]

    def values(self, index: int) -> tuple[int, ...]:
        """The values that code word ``index`` stands for."""
        base = 2 * self.largest + 1 if self.signed else self.largest + 1
        digits = []
        for _ in range(self.size):
            index, digit = divmod(index, base)
            digits.append(digit - self.largest if self.signed else digit)
        return tuple(reversed(digits))


def _book(size: int, signed: bool, largest: int, lengths: str, codes: str) -> Book:
    return Book(size, signed, largest, tuple(map(int, lengths.split())), tuple(int(code, 16) for code in codes.split()))


ESCAPE = 16  # in book 11: the value follows (ISO/IEC 14496-3, 4.6.3.3)

BOOKS = {
    1: _book(
        4, True, 1,
        """
        11 9 11 10 7 10 11 9 11 10 7 10 7 5 7 9 7 10 11 9 11 9 7 9 11 9 11 9 7 9 7 5 7 9 7 9 7 5 7 5 1 5 7 5 7 9
        7 9 7 5 7 9 7 9 11 9 11 9 7 9 11 9 11 10 7 9 7 5 7 9 7 10 11 9 11 10 7 9 11 9 11
        """,
        """
        7f8 1f1 7fd 3f5 68 3f0 7f7 1ec 7f5 3f1 72 3f4 74 11 76 1eb 6c 3f6 7fc 1e1 7f1 1f0 61 1f6 7f2 1ea 7fb 1f2
        69 1ed 77 17 6f 1e6 64 1e5 67 15 62 12 0 14 65 16 6d 1e9 63 1e4 6b 13 71 1e3 70 1f3 7fe 1e7 7f3 1ef 60
        1ee 7f0 1e2 7fa 3f3 6a 1e8 75 10 73 1f4 6e 3f7 7f6 1e0 7f9 3f2 66 1f5 7ff 1f7 7f4
        """,
    ),
    2: _book(
        4, True, 1,
        """
        9 7 9 8 6 8 9 8 9 8 6 7 6 5 6 7 6 8 9 7 8 8 6 8 9 7 9 8 6 7 6 5 6 7 6 8 6 5 6 5 3 5 6 5 6 8 6 7 6 5 6 8
        6 8 9 7 9 8 6 8 8 7 9 8 6 7 6 4 6 8 6 7 9 7 9 7 6 8 9 7 9
        """,
        """
        1f3 6f 1fd eb 23 ea 1f7 e8 1fa f2 2d 70 20 6 2b 6e 28 e9 1f9 66 f8 e7 1b f1 1f4 6b 1f5 ec 2a 6c 2c a 27
        67 1a f5 24 8 1f 9 0 7 1d b 30 ef 1c 64 1e c 29 f3 2f f0 1fc 71 1f2 f4 21 e6 f7 68 1f8 ee 22 65 31 2 26
        ed 25 6a 1fb 72 1fe 69 2e f6 1ff 6d 1f6
        """,
    ),
    3: _book(
        4, False, 2,
        """
        1 4 8 4 5 8 9 9 10 4 6 9 6 6 9 9 9 10 9 10 13 9 9 11 11 10 12 4 6 10 6 7 10 10 10 12 5 7 11 6 7 10 9 9
        11 9 10 13 8 9 12 10 11 12 8 10 15 9 11 15 13 14 16 8 10 14 9 10 14 12 12 15 11 12 16 10 11 15 12 12 15
        """,
        """
        0 9 ef b 19 f0 1eb 1e6 3f2 a 35 1ef 34 37 1e9 1ed 1e7 3f3 1ee 3ed 1ffa 1ec 1f2 7f9 7f8 3f8 ff8 8 38 3f6
        36 75 3f1 3eb 3ec ff4 18 76 7f4 39 74 3ef 1f3 1f4 7f6 1e8 3ea 1ffc f2 1f1 ffb 3f5 7f3 ffc ee 3f7 7ffe
        1f0 7f5 7ffd 1ffb 3ffa ffff f1 3f0 3ffc 1ea 3ee 3ffb ff6 ffa 7ffc 7f2 ff5 fffe 3f4 7f7 7ffb ff7 ff9 7ffa
        """,
    ),
    4: _book(
        4, False, 2,
        """
        4 5 8 5 4 8 9 8 11 5 5 8 5 4 8 8 7 10 9 8 11 8 8 10 11 10 11 4 5 8 4 4 8 8 8 10 4 4 8 4 4 7 8 7 9 8 8 10
        7 7 9 10 9 10 8 8 11 8 7 10 11 10 12 8 7 10 7 7 9 10 9 11 11 10 12 10 9 11 11 10 11
        """,
        """
        7 16 f6 18 8 ef 1ef f3 7f8 19 17 ed 15 1 e2 f0 70 3f0 1ee f1 7fa ee e4 3f2 7f6 3ef 7fd 5 14 f2 9 4 e5 f4
        e8 3f4 6 2 e7 3 0 6b e3 69 1f3 eb e6 3f6 6e 6a 1f4 3ec 1f0 3f9 f5 ec 7fb ea 6f 3f7 7f9 3f3 fff e9 6d 3f8
        6c 68 1f5 3ee 1f2 7f4 7f7 3f1 ffe 3ed 1f1 7f5 7fe 3f5 7fc
        """,
    ),
    5: _book(
        2, True, 4,
        """
        13 12 11 11 10 11 11 12 13 12 11 10 9 8 9 10 11 12 12 10 9 8 7 8 9 10 11 11 9 8 5 4 5 8 9 11 10 8 7 4 1
        4 7 8 11 11 9 8 5 4 5 8 9 11 11 10 9 8 7 8 9 10 11 12 11 10 9 8 9 10 11 12 13 12 12 11 10 10 11 12 13
        """,
        """
        1fff ff7 7f4 7e8 3f1 7ee 7f9 ff8 1ffd ffd 7f1 3e8 1e8 f0 1ec 3ee 7f2 ffa ff4 3ef 1f2 e8 70 ec 1f0 3ea
        7f3 7eb 1eb ea 1a 8 19 ee 1ef 7ed 3f0 f2 73 b 0 a 71 f3 7e9 7ef 1ee ef 18 9 1b eb 1e9 7ec 7f6 3eb 1f3 ed
        72 e9 1f1 3ed 7f7 ff6 7f0 3e9 1ed f1 1ea 3ec 7f8 ff9 1ffc ffc ff5 7ea 3f3 3f2 7f5 ffb 1ffe
        """,
    ),
    6: _book(
        2, True, 4,
        """
        11 10 9 9 9 9 9 10 11 10 9 8 7 7 7 8 9 10 9 8 6 6 6 6 6 8 9 9 7 6 4 4 4 6 7 9 9 7 6 4 4 4 6 7 9 9 7 6 4
        4 4 6 7 9 9 8 6 6 6 6 6 8 9 10 9 8 7 7 7 7 8 10 11 10 9 9 9 9 9 10 11
        """,
        """
        7fe 3fd 1f1 1eb 1f4 1ea 1f0 3fc 7fd 3f6 1e5 ea 6c 71 68 f0 1e6 3f7 1f3 ef 32 27 28 26 31 eb 1f7 1e8 6f
        2e 8 4 6 29 6b 1ee 1ef 72 2d 2 0 3 2f 73 1fa 1e7 6e 2b 7 1 5 2c 6d 1ec 1f9 ee 30 24 2a 25 33 ec 1f2 3f8
        1e4 ed 6a 70 69 74 f1 3fa 7ff 3f9 1f6 1ed 1f8 1e9 1f5 3fb 7fc
        """,
    ),
    7: _book(
        2, False, 7,
        """
        1 3 6 7 8 9 10 11 3 4 6 7 8 8 9 9 6 6 7 8 8 9 9 10 7 7 8 8 9 9 10 10 8 8 9 9 10 10 10 11 9 8 9 9 10 10
        11 11 10 9 9 10 10 11 12 12 11 10 10 10 11 11 12 12
        """,
        """
        0 5 37 74 f2 1eb 3ed 7f7 4 c 35 71 ec ee 1ee 1f5 36 34 72 ea f1 1e9 1f3 3f5 73 70 eb f0 1f1 1f0 3ec 3fa
        f3 ed 1e8 1ef 3ef 3f1 3f9 7fb 1ed ef 1ea 1f2 3f3 3f8 7f9 7fc 3ee 1ec 1f4 3f4 3f7 7f8 ffd ffe 7f6 3f0 3f2
        3f6 7fa 7fd ffc fff
        """,
    ),
    8: _book(
        2, False, 7,
        """
        5 4 5 6 7 8 9 10 4 3 4 5 6 7 7 8 5 4 4 5 6 7 7 8 6 5 5 6 6 7 8 8 7 6 6 6 7 7 8 9 8 7 6 7 7 8 8 10 9 7 7
        8 8 8 9 9 10 8 8 8 9 9 9 10
        """,
        """
        e 5 10 30 6f f1 1fa 3fe 3 0 4 12 2c 6a 75 f8 f 2 6 14 2e 69 72 f5 2f 11 13 2a 32 6c ec fa 71 2b 2d 31 6d
        70 f2 1f9 ef 68 33 6b 6e ee f9 3fc 1f8 74 73 ed f0 f6 1f6 1fd 3fd f3 f4 f7 1f7 1fb 1fc 3ff
        """,
    ),
    9: _book(
        2, False, 12,
        """
        1 3 6 8 9 10 10 11 11 12 12 13 13 3 4 6 7 8 8 9 10 10 10 11 12 12 6 6 7 8 8 9 10 10 10 11 12 12 12 8 7 8
        9 9 10 10 11 11 11 12 12 13 9 8 9 9 10 10 11 11 11 12 12 12 13 10 9 9 10 11 11 11 12 11 12 12 13 13 11 9
        10 11 11 11 12 12 12 12 13 13 13 11 10 10 11 11 12 12 13 13 13 13 13 13 11 10 10 11 11 11 12 12 13 13 14
        13 14 11 10 11 11 12 12 12 12 13 13 14 14 14 12 11 11 12 12 12 13 13 13 14 14 14 15 12 11 12 12 12 13 13
        13 13 14 14 15 15 13 12 12 12 13 13 13 13 14 14 14 14 15
        """,
        """
        0 5 37 e7 1de 3ce 3d9 7c8 7cd fc8 fdd 1fe4 1fec 4 c 35 72 ea ed 1e2 3d1 3d3 3e0 7d8 fcf fd5 36 34 71 e8
        ec 1e1 3cf 3dd 3db 7d0 fc7 fd4 fe4 e6 70 e9 1dd 1e3 3d2 3dc 7cc 7ca 7de fd8 fea 1fdb 1df eb 1dc 1e6 3d5
        3de 7cb 7dd 7dc fcd fe2 fe7 1fe1 3d0 1e0 1e4 3d6 7c5 7d1 7db fd2 7e0 fd9 feb 1fe3 1fe9 7c4 1e5 3d7 7c6
        7cf 7da fcb fda fe3 fe9 1fe6 1ff3 1ff7 7d3 3d8 3e1 7d4 7d9 fd3 fde 1fdd 1fd9 1fe2 1fea 1ff1 1ff6 7d2 3d4
        3da 7c7 7d7 7e2 fce fdb 1fd8 1fee 3ff0 1ff4 3ff2 7e1 3df 7c9 7d6 fca fd0 fe5 fe6 1feb 1fef 3ff3 3ff4
        3ff5 fe0 7ce 7d5 fc6 fd1 fe1 1fe0 1fe8 1ff0 3ff1 3ff8 3ff6 7ffc fe8 7df fc9 fd7 fdc 1fdc 1fdf 1fed 1ff5
        3ff9 3ffb 7ffd 7ffe 1fe7 fcc fd6 fdf 1fde 1fda 1fe5 1ff2 3ffa 3ff7 3ffc 3ffd 7fff
        """,
    ),
    10: _book(
        2, False, 12,
        """
        6 5 6 6 7 8 9 10 10 10 11 11 12 5 4 4 5 6 7 7 8 8 9 10 10 11 6 4 5 5 6 6 7 8 8 9 9 10 10 6 5 5 5 6 7 7 8
        8 9 9 10 10 7 6 6 6 6 7 7 8 8 9 9 10 10 8 7 6 7 7 7 8 8 8 9 10 10 11 9 7 7 7 7 8 8 9 9 9 10 10 11 9 8 8
        8 8 8 9 9 9 10 10 11 11 9 8 8 8 8 8 9 9 10 10 10 11 11 10 9 9 9 9 9 9 10 10 10 11 11 12 10 9 9 9 9 10 10
        10 10 11 11 11 12 11 10 9 10 10 10 10 10 11 11 11 11 12 11 10 10 10 10 10 10 11 11 12 12 12 12
        """,
        """
        22 8 1d 26 5f d3 1cf 3d0 3d7 3ed 7f0 7f6 ffd 7 0 1 9 20 54 60 d5 dc 1d4 3cd 3de 7e7 1c 2 6 c 1e 28 5b cd
        d9 1ce 1dc 3d9 3f1 25 b a d 24 57 61 cc dd 1cc 1de 3d3 3e7 5d 21 1f 23 27 59 64 d8 df 1d2 1e2 3dd 3ee d1
        55 29 56 58 62 ce e0 e2 1da 3d4 3e3 7eb 1c9 5e 5a 5c 63 ca da 1c7 1ca 1e0 3db 3e8 7ec 1e3 d2 cb d0 d7 db
        1c6 1d5 1d8 3ca 3da 7ea 7f1 1e1 d4 cf d6 de e1 1d0 1d6 3d1 3d5 3f2 7ee 7fb 3e9 1cd 1c8 1cb 1d1 1d7 1df
        3cf 3e0 3ef 7e6 7f8 ffa 3eb 1dd 1d3 1d9 1db 3d2 3cc 3dc 3ea 7ed 7f3 7f9 ff9 7f2 3ce 1e4 3cb 3d8 3d6 3e2
        3e5 7e8 7f4 7f5 7f7 ffb 7fa 3ec 3df 3e1 3e4 3e6 3f0 7e9 7ef ff8 ffe ffc fff
        """,
    ),
    11: _book(
        2, False, 16,
        """
        4 5 6 7 8 8 9 10 10 10 11 11 12 11 12 12 10 5 4 5 6 7 7 8 8 9 9 9 10 10 10 10 11 8 6 5 5 6 7 7 8 8 8 9 9
        9 10 10 10 10 8 7 6 6 6 7 7 8 8 8 9 9 9 10 10 10 10 8 8 7 7 7 7 8 8 8 8 9 9 9 10 10 10 10 8 8 7 7 7 7 8
        8 8 9 9 9 9 10 10 10 10 8 9 8 8 8 8 8 8 8 9 9 9 10 10 10 10 10 8 9 8 8 8 8 8 8 9 9 9 10 10 10 10 10 10 8
        10 9 8 8 9 9 9 9 9 10 10 10 10 10 10 11 8 10 9 9 9 9 9 9 9 10 10 10 10 10 10 11 11 8 11 9 9 9 9 9 9 10
        10 10 10 10 11 10 11 11 8 11 10 9 9 10 9 10 10 10 10 10 11 11 11 11 11 8 11 10 10 10 10 10 10 10 10 10
        10 11 11 11 11 11 9 11 10 9 9 10 10 10 10 10 10 11 11 11 11 11 11 9 11 10 10 10 10 10 10 10 10 10 11 11
        11 11 11 11 9 12 10 10 10 10 10 10 10 11 11 11 11 11 11 12 12 9 9 8 8 8 8 8 8 8 8 8 8 8 8 8 8 9 5
        """,
        """
        0 6 19 3d 9c c6 1a7 390 3c2 3df 7e6 7f3 ffb 7ec ffa ffe 38e 5 1 8 14 37 42 92 af 191 1a5 1b5 39e 3c0 3a2
        3cd 7d6 ae 17 7 9 18 39 40 8e a3 b8 199 1ac 1c1 3b1 396 3be 3ca 9d 3c 15 16 1a 3b 44 91 a5 be 196 1ae
        1b9 3a1 391 3a5 3d5 94 9a 36 38 3a 41 8c 9b b0 c3 19e 1ab 1bc 39f 38f 3a9 3cf 93 bf 3e 3f 43 45 9e a7 b9
        194 1a2 1ba 1c3 3a6 3a7 3bb 3d4 9f 1a0 8f 8d 90 98 a6 b6 c4 19f 1af 1bf 399 3bf 3b4 3c9 3e7 a8 1b6 ab a4
        aa b2 c2 c5 198 1a4 1b8 38c 3a4 3c4 3c6 3dd 3e8 ad 3af 192 bd bc 18e 197 19a 1a3 1b1 38d 398 3b7 3d3 3d1
        3db 7dd b4 3de 1a9 19b 19c 1a1 1aa 1ad 1b3 38b 3b2 3b8 3ce 3e1 3e0 7d2 7e5 b7 7e3 1bb 1a8 1a6 1b0 1b2
        1b7 39b 39a 3ba 3b5 3d6 7d7 3e4 7d8 7ea ba 7e8 3a0 1bd 1b4 38a 1c4 392 3aa 3b0 3bc 3d7 7d4 7dc 7db 7d5
        7f0 c1 7fb 3c8 3a3 395 39d 3ac 3ae 3c5 3d8 3e2 3e6 7e4 7e7 7e0 7e9 7f7 190 7f2 393 1be 1c0 394 397 3ad
        3c3 3c1 3d2 7da 7d9 7df 7eb 7f4 7fa 195 7f8 3bd 39c 3ab 3a8 3b3 3b9 3d0 3e3 3e5 7e2 7de 7ed 7f1 7f9 7fc
        193 ffd 3dc 3b6 3c7 3cc 3cb 3d9 3da 7d3 7e1 7ee 7ef 7f5 7f6 ffc fff 19d 1c2 b5 a1 96 97 95 99 a0 a2 ac
        a9 b1 b3 bb c0 18f 4
        """,
    ),
}  # fmt: skip
