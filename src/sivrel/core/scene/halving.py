"""Images of half the size, by the mean over the area of each new texel (Williams 1983)."""

import math

from ..kernel import called_kernel, kernel


@kernel
def _overlap(i, low, high):
    """Share of texel `i` that lies between the coordinates low and high."""
    return min(i + 1.0, high) - max(float(i), low)


@kernel
def _code_of(value, table, count):
    """The code whose value in the ascending `table` [count] is nearest; negative ones have the sign bit of half floats."""
    size = abs(value)
    low, high = 0, count - 1
    while high - low > 1:
        middle = (low + high) // 2
        if table[middle] <= size:
            low = middle
        else:
            high = middle
    code = low if size - table[low] <= table[high] - size else high
    return code if value >= 0.0 else code | 0x8000


@kernel
def _quarter(image, table, y, x, channel):
    """Sum over the four texels of a new one."""
    j, i = 2 * y, 2 * x
    return (table[image[j, i, channel]] + table[image[j, i + 1, channel]]) + (table[image[j + 1, i, channel]] + table[image[j + 1, i + 1, channel]])


@called_kernel
def halve_codes(image, colours, alphas, count, nearest, alpha, half, first, last):
    """Fill the rows first to last of half [rows, columns, channels] from `image`, codes with the linear values colours [codes] and, in channel
    `alpha`, alphas; the first `count` of the values ascend. nearest [any number]: codes of even steps from 0 to 1, of colours; may be empty."""
    even = image.shape[0] == 2 * half.shape[0] and image.shape[1] == 2 * half.shape[1]
    for y in range(first, last):
        top, bottom = y * image.shape[0] / half.shape[0], (y + 1) * image.shape[0] / half.shape[0]
        for x in range(half.shape[1]):
            left, right = x * image.shape[1] / half.shape[1], (x + 1) * image.shape[1] / half.shape[1]
            for channel in range(half.shape[2]):
                table, value = alphas if channel == alpha else colours, 0.0
                if even:
                    value = 0.25 * _quarter(image, table, y, x, channel)
                else:
                    for j in range(int(top), int(math.ceil(bottom))):
                        for i in range(int(left), int(math.ceil(right))):
                            value += _overlap(j, top, bottom) * _overlap(i, left, right) * table[image[j, i, channel]]
                    value /= (bottom - top) * (right - left)
                if channel != alpha and len(nearest) > 0:
                    half[y, x, channel] = nearest[int(value * (len(nearest) - 1) + 0.5)]
                else:
                    half[y, x, channel] = _code_of(value, table, count)


@called_kernel
def halve_floats(image, half):
    """The same for linear numbers."""
    for y in range(half.shape[0]):
        top, bottom = y * image.shape[0] / half.shape[0], (y + 1) * image.shape[0] / half.shape[0]
        for x in range(half.shape[1]):
            left, right = x * image.shape[1] / half.shape[1], (x + 1) * image.shape[1] / half.shape[1]
            for channel in range(half.shape[2]):
                total = 0.0
                for j in range(int(top), int(math.ceil(bottom))):
                    for i in range(int(left), int(math.ceil(right))):
                        total += _overlap(j, top, bottom) * _overlap(i, left, right) * image[j, i, channel]
                half[y, x, channel] = total / ((bottom - top) * (right - left))
