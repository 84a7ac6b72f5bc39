"""Photometric files in (IES LM-63-1986 to 2002, type C): luminous intensity over the directions about a luminaire."""

import re
from pathlib import Path

import numpy as np

from ..errors import InputError
from ..scene.model import Profile

MOST_ANGLES = 2000
MOST_BYTES = 64 << 20
"""Most bytes of a file: 2 000 by 2 000 directions take less."""
BRIGHTEST = 1e12


def read_ies(text: str, name: str) -> Profile:
    """The profile in `text`. Vertical angle 0 is the light's axis, however it is mounted. Raises InputError with `name`.

    Symmetric files are expanded to the full turn: one horizontal angle serves all round; 0 to 90 is mirrored twice;
    0 to 180 once (LM-63-2002, section 5.12).
    """
    head, _, rest = text.partition("TILT=")
    if not rest:
        raise InputError(f"{name} is not a photometric IES file; it has no line TILT=.")
    tilt, _, body = rest.partition("\n")
    numbers = [float(n) for n in re.findall(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?", body)]
    try:
        if not np.isfinite(numbers).all():
            raise ValueError
        if tilt.strip().upper() == "INCLUDE":
            pairs = int(numbers[1])
            numbers = numbers[2 + 2 * pairs :]
        elif tilt.strip().upper() != "NONE":
            raise InputError(f"{name} keeps its tilt in another file; use one with TILT=NONE.")
        factor, across, round_, kind = numbers[2], int(numbers[3]), int(numbers[4]), int(numbers[5])
        if not (0 < across <= MOST_ANGLES and 0 < round_ <= MOST_ANGLES):
            raise IndexError
        factor *= numbers[10]  # ballast; then a reserved value, then watts
        at = 13
        vertical, at = np.array(numbers[at : at + across]), at + across
        horizontal, at = np.array(numbers[at : at + round_]), at + round_
        candela = np.array(numbers[at : at + across * round_]).reshape(round_, across) * factor
    except (IndexError, ValueError):
        raise InputError(f"{name} is not a whole photometric IES file; numbers are missing or too large.") from None
    if not 0.0 <= candela.min() <= candela.max() <= BRIGHTEST:
        raise InputError(f"{name} has candela values that are negative or too large; it is damaged.")
    if kind != 1:
        raise InputError(f"{name} is of type {'CBA'[kind - 1] if kind in (2, 3) else kind}; only type C is read.")
    rise = (np.diff(vertical) > 0.0).all() and (np.diff(horizontal) > 0.0).all()
    if not (rise and vertical[0] >= 0.0 and vertical[-1] <= 180.0 and horizontal[0] >= 0.0 and horizontal[-1] <= 360.0):
        raise InputError(f"{name} has angles that do not increase; it is damaged.")
    return Profile(vertical, *_whole_turn(horizontal, candela))


def _whole_turn(horizontal: np.ndarray, candela: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Angles from 0 to 360 degrees with their rows: symmetric data is mirrored, and direction 0 is placed between its neighbours."""
    if len(horizontal) == 1:
        return np.array([0.0, 360.0]), np.repeat(candela, 2, axis=0)
    mirrors = {90.0: (0.0, 180.0), 180.0: (0.0,), 270.0: (180.0,)}.get(float(horizontal[-1]), ())
    for about in mirrors if horizontal[0] in (0.0, 90.0) else ():
        horizontal, candela = np.concatenate([horizontal, about - horizontal]), np.concatenate([candela, candela])
    horizontal, first = np.unique(np.mod(horizontal, 360.0), return_index=True)
    candela = candela[first]
    before = 360.0 - horizontal[-1]
    share = before / (before + horizontal[0])
    start = candela[-1] * (1.0 - share) + candela[0] * share
    if horizontal[0] > 0.0:
        horizontal, candela = np.append(0.0, horizontal), np.concatenate([start[None], candela])
    return np.append(horizontal, 360.0), np.concatenate([candela, candela[:1]])


def read_ies_file(path: Path) -> Profile:
    """The profile in the file `path`. Raises InputError."""
    try:
        if not path.is_file() or path.stat().st_size > MOST_BYTES:
            raise OSError
        text = path.read_text("latin-1")
    except (OSError, ValueError):
        raise InputError(f"There is no photometric file {path}, or it is too large; check the name.") from None
    return read_ies(text, path.name)
