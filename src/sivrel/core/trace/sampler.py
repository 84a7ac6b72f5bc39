"""Scrambled Sobol numbers, a pure function of (seed, pixel, sample, dimension).

Every dimension gets its own shuffled and Owen-scrambled copy of the first two Sobol dimensions ("padding"), after
Burley 2020, "Practical Hash-based Owen Scrambling", with the hash constants of Laine & Karras 2011 as improved there.
Any integer names a dimension, so a path may be as long as it likes.
"""

import numpy as np

from ..kernel import kernel
from .simd import reverse_bits32


@kernel
def hash32(x):
    """A well-mixed uint32 of a uint32 (multiply-xorshift with the "lowbias32" constants of Wellons 2018)."""
    x = np.uint32(x)
    x = np.uint32((x ^ (x >> np.uint32(16))) * np.uint32(0x7FEB352D))
    x = np.uint32((x ^ (x >> np.uint32(15))) * np.uint32(0x846CA68B))
    return np.uint32(x ^ (x >> np.uint32(16)))


@kernel
def pixel_key(seed, pixel):
    """Key of all random numbers of a pixel (its index in the whole frame, whatever region is rendered)."""
    return hash32(hash32(np.uint32(seed) ^ np.uint32(0x9E3779B9)) ^ hash32(np.uint32(pixel)))


@kernel
def _scramble_reversed(x, seed):
    """Owen scrambling of a number given with its bits reversed (Laine-Karras permutation; Burley 2020, listing 2)."""
    x = np.uint32(x + seed)
    x = np.uint32(x ^ np.uint32(x * np.uint32(0x6C50B47C)))
    x = np.uint32(x ^ np.uint32(x * np.uint32(0xB82F1E52)))
    x = np.uint32(x ^ np.uint32(x * np.uint32(0xC7AFE638)))
    return np.uint32(x ^ np.uint32(x * np.uint32(0x8D22F6E6)))


@kernel
def sobol_2d(index):
    """First two dimensions of the Sobol sequence (Sobol 1967) as uint32 fractions of 2**32.

    The first is the bit reversal; the second multiplies the index by Pascal's triangle modulo two first.
    """
    i = np.uint32(index)
    y = i
    y = np.uint32(y ^ (y >> np.uint32(16)))
    y = np.uint32(y ^ ((y >> np.uint32(8)) & np.uint32(0x00FF00FF)))
    y = np.uint32(y ^ ((y >> np.uint32(4)) & np.uint32(0x0F0F0F0F)))
    y = np.uint32(y ^ ((y >> np.uint32(2)) & np.uint32(0x33333333)))
    y = np.uint32(y ^ ((y >> np.uint32(1)) & np.uint32(0x55555555)))
    return reverse_bits32(i), reverse_bits32(y)


@kernel
def sample_2d(key, sample, dimension):
    """Two numbers in [0, 1) for `sample` of the pixel with `key`; the samples of one dimension are stratified."""
    seed = hash32(key ^ hash32(np.uint32(dimension)))
    shuffled = reverse_bits32(_scramble_reversed(reverse_bits32(np.uint32(sample)), seed))
    x, y = sobol_2d(shuffled)
    x = reverse_bits32(_scramble_reversed(reverse_bits32(x), hash32(seed ^ np.uint32(0xA511E9B3))))
    y = reverse_bits32(_scramble_reversed(reverse_bits32(y), hash32(seed ^ np.uint32(0x63D83595))))
    return x * 2.3283064365386963e-10, y * 2.3283064365386963e-10


@kernel
def sample_1d(key, sample, dimension):
    """One number in [0, 1) for `sample` of the pixel with `key`."""
    seed = hash32(key ^ hash32(np.uint32(dimension)))
    x = _scramble_reversed(reverse_bits32(np.uint32(sample)), seed)
    return reverse_bits32(_scramble_reversed(reverse_bits32(np.uint32(x)), seed ^ np.uint32(0x2C1B3C6D))) * (2.3283064365386963e-10)
