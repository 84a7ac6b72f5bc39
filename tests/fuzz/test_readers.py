"""Cases that fuzzing found, and those that it began from: each reader takes or refuses them, as it says. And random ones, a few, each time."""

import random
import re
import unittest
from pathlib import Path

from .targets import TARGETS, meets

SEEDS = Path(__file__).parent / "seeds"
MUTANTS = 60
NUMBER = re.compile(rb"-?\d+(?:\.\d+)?")
ODD = [b"nan", b"inf", b"-inf", b"-1", b"0", b"1e-320", b"1e30", b"1e300", b"1e999", b"2147483648", b"99999999999999999999", b"0.5", b"1 2"]


def mutant(data: bytes, chance: random.Random) -> bytes:
    """The same, a little damaged: a number made odd; or bytes turned, taken out, doubled or cut off."""
    result = bytearray(data)
    numbers = list(NUMBER.finditer(data[:100_000])) if chance.random() < 0.5 else []
    if numbers:
        for found in sorted(chance.sample(numbers, min(len(numbers), chance.choice([1, 1, 2, 5]))), key=lambda one: -one.start()):
            result[found.start() : found.end()] = chance.choice(ODD)
        return bytes(result)
    for _ in range(chance.choice([1, 1, 2, 4, 16])):
        at, length = chance.randrange(len(result) + 1), chance.choice([1, 1, 2, 4, 8, 64, 512])
        act = chance.randrange(6)
        if act == 0 and result:
            result[at % len(result)] ^= 1 << chance.randrange(8)
        elif act == 1:
            del result[at : at + length]
        elif act == 2:
            result[at:at] = result[at : at + length]
        elif act == 3:
            del result[at:]
        elif act == 4:
            result[at : at + length] = chance.randbytes(length)
        else:
            odd = [b"\0", b"nan", b"inf", b"-1", b"1e999", b"999999999999", b"\xff\xff\xff\xff", b"{", b"]", b"\n"]
            result[at : at + length] = chance.choice(odd)
    return bytes(result)


class Readers(unittest.TestCase):
    def test_every_target_has_seeds(self):
        self.assertEqual({path.name for path in SEEDS.iterdir()}, set(TARGETS))

    def test_seeds_and_what_was_found(self):
        for path in sorted(SEEDS.glob("*/*")):
            with self.subTest(f"{path.parent.name}/{path.name}"):
                meets(path.parent.name, path.read_bytes())

    def test_mutants(self):
        for path in sorted(SEEDS.glob("*/*")):
            chance, data = random.Random(path.name), path.read_bytes()
            for number in range(MUTANTS):
                with self.subTest(f"{path.parent.name}/{path.name} {number}"):
                    meets(path.parent.name, mutant(data, chance))


if __name__ == "__main__":
    unittest.main()
