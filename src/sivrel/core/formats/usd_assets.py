"""Files that a USD stage refers to, and how an uploaded stage is confined to its folder.

Every layer is checked before the stage is composed, and the layers in use are checked again after: anything that can't be resolved by name
(expressions, clips, search paths of the environment) is refused and never opened.
"""

import re
import sys
from pathlib import Path
from typing import Any

from pxr import Ar, Sdf, Tf, Usd, UsdUtils

from ..errors import InputError


def asset_bytes(asset: Any, confine_to: Path | None) -> bytes:
    """Contents of an asset path, also from inside a package. Raises InputError if it does not exist, or, with
    `confine_to`, if it is outside that folder."""
    resolved = asset.resolvedPath
    if not resolved:
        raise InputError(f"The file {asset.path[:200]} was not found.")
    if confine_to and not is_within(resolved, confine_to):
        raise InputError(f"The file {asset.path[:200]} was not given with the scene.")
    opened = Ar.GetResolver().OpenAsset(Ar.ResolvedPath(resolved))
    if not opened:
        raise InputError(f"The file {asset.path[:200]} can't be opened.")
    with opened as source:
        return bytes(source.GetBuffer())


def is_within(identifier: str, folder: Path) -> bool:
    """Whether a layer or asset is inside a folder: the file itself, or the package that contains it, with links resolved."""
    file = Sdf.Layer.SplitIdentifier(identifier)[0]
    outer = Ar.SplitPackageRelativePathOuter(file)[0]
    try:
        return Path(outer).resolve().is_relative_to(folder.resolve())
    except (OSError, ValueError):
        return False


def open_stage(path: Path, confine_to: Path | None = None) -> Usd.Stage:
    """The stage at `path`. With `confine_to`, no layer outside that folder is opened. Raises InputError."""
    if confine_to is not None:
        _check_layers(path, confine_to)
    said = UsdUtils.CoalescingDiagnosticDelegate()  # while it lives, warnings come here
    try:
        stage = Usd.Stage.Open(str(path))
        for warning in said.TakeUncoalescedDiagnostics():
            if ".mtlx@" not in warning.commentary:  # those are read by usd_mtlx_files
                print(f"Warning: {warning.commentary}", file=sys.stderr)
    except Tf.ErrorException as error:
        found = re.search(r":(\d+):\d+: Expected (.{1,60}?) at '", str(error))  # of a text file, as OpenUSD's parser says it
        where = f" at line {found[1]}, where {found[2]} was expected" if found else ""
        raise InputError(f"{path.name} is not a USD file, or it is damaged{where}.") from None
    if confine_to is not None:
        for layer in stage.GetUsedLayers():
            if not layer.anonymous and not is_within(layer.identifier, confine_to):
                raise _outside(path, layer.identifier)
    return stage


def refuse_clips(stage: Usd.Stage, path: Path) -> None:
    """Raise InputError if values come from clips: their files are given by patterns, and opened as values are read."""
    for prim in stage.TraverseAll():
        if prim.HasAuthoredMetadata("clips") or prim.HasAuthoredMetadata("clipSets"):
            raise InputError(f"{path.name} takes its motion from value clips, which can't be read from an upload; save it as one file.")


def _check_layers(path: Path, folder: Path) -> None:
    """Refuse layers that refer outside `folder`, before anything there is opened."""
    waiting, seen = [str(path)], set()
    while waiting:
        identifier = waiting.pop()
        if identifier in seen:
            continue
        seen.add(identifier)
        try:
            layer = Sdf.Layer.FindOrOpen(identifier)
        except Tf.ErrorException:
            layer = None
        if layer is None:
            if identifier == str(path):
                raise InputError(f"{path.name} is not a USD file, or it is damaged.")
            continue  # missing or unreadable: composition ignores it
        for reference in filter(None, layer.GetCompositionAssetDependencies()):  # an empty reference is to the layer itself
            if "`" in reference:
                raise InputError(f"{path.name} refers to {reference[:200]}, an expression; save it with plain file names.")
            target = Sdf.ComputeAssetPathRelativeToLayer(layer, reference)
            if not is_within(target, folder):
                raise _outside(path, reference)
            waiting.append(target)


def _outside(path: Path, reference: str) -> InputError:
    return InputError(f"{path.name} refers to {reference[:200]}, which was not given with it; add that file.")
