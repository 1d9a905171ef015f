"""Small pictures drawn by rule: hills, sky, a train. PNG, per the W3C's specification."""

from __future__ import annotations

import random
import struct
import zlib
from functools import cache

WIDTH, HEIGHT = 320, 200
_DOT = 2  # drawn at half the size, each point two by two

_SKIES = [(196, 221, 238), (233, 214, 196), (170, 196, 226), (214, 226, 232)]
_HILLS = [(104, 142, 92), (88, 128, 98), (128, 146, 84), (116, 124, 78)]
_COACHES = [(132, 38, 42), (38, 84, 62), (44, 62, 110), (168, 122, 44)]


@cache
def draw(seed: int) -> bytes:
    """One picture; equal seeds give equal bytes."""
    chance = random.Random(seed)
    sky, hill, coach = (chance.choice(colours) for colours in (_SKIES, _HILLS, _COACHES))
    ridge = [
        90 + int(24 * chance.random()) + (x // 16 % 5) * chance.randrange(1, 4)
        for x in range(WIDTH)
    ]
    left = chance.randrange(20, 120)
    rows = bytearray()
    for y in range(0, HEIGHT, _DOT):
        row = bytearray(b"\0")
        for x in range(0, WIDTH, _DOT):
            if y > 150 and y < 156:
                pixel = (84, 78, 72) if (x // 6) % 2 else (120, 110, 100)
            elif 118 <= y < 148 and left <= x < left + 150 and (x - left) % 52 < 48:
                window = 124 <= y < 134 and (x - left) % 12 < 8
                pixel = (236, 226, 190) if window else coach
            elif 148 <= y < 151 and left <= x < left + 150 and (x - left) % 18 < 8:
                pixel = (40, 40, 44)
            elif y > ridge[x // 8 * 8]:
                shade = (y - ridge[x // 8 * 8]) // 8
                pixel = (max(hill[0] - shade, 0), max(hill[1] - shade, 0), max(hill[2] - shade, 0))
            else:
                pixel = (min(sky[0] + y // 8, 255), min(sky[1] + y // 10, 255), sky[2])
            row += bytes(pixel) * _DOT
        rows += row * _DOT
    return (
        b"\x89PNG\r\n\x1a\n"
        + _chunk(b"IHDR", struct.pack(">IIBBBBB", WIDTH, HEIGHT, 8, 2, 0, 0, 0))
        + _chunk(b"IDAT", zlib.compress(bytes(rows), 9))
        + _chunk(b"IEND", b"")
    )


def _chunk(kind: bytes, data: bytes) -> bytes:
    return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))
