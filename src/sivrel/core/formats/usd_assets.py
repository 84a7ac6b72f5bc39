"""Files that a USD stage refers to."""

from pathlib import Path

from pxr import Ar

from ..errors import InputError


def asset_bytes(asset, confine_to: Path | None) -> bytes:
    """Contents of an asset path, also from inside a package. Raises InputError when it is not there, or, with
    `confine_to`, when it lies outside that folder."""
    resolved = asset.resolvedPath
    if not resolved:
        raise InputError(f"The file {asset.path} was not found.")
    outer = Path(Ar.SplitPackageRelativePathOuter(resolved)[0])
    if confine_to and not outer.resolve().is_relative_to(confine_to.resolve()):
        raise InputError(f"The file {asset.path} was not given with the scene.")
    opened = Ar.GetResolver().OpenAsset(Ar.ResolvedPath(resolved))
    if not opened:
        raise InputError(f"The file {asset.path} can't be opened.")
    with opened as source:
        return bytes(source.GetBuffer())
