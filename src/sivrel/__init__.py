"""Sivrel: choose, tune and diagnose ways of finding bounced light and shadows.

As a library: `shot = sivrel.open(path)`, `picture = shot.render(...)`, `picture.save(path)`; see docs/api.md. Names are imported
on first use, and importing `sivrel` does nothing else.
"""

import importlib
from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

_FROM = {
    ".shot": ("Shot", "View", "compare", "diagnose", "open", "read_picture", "recipe", "recipe_and_edits", "warm_up"),
    ".core.caches": ("CacheFolder",),
    ".core.errors": ("Cancelled", "InputError", "SivrelError"),
    ".core.pictures.exr": ("Picture",),
    ".core.task": ("Cancel",),
    ".core.render.recipe": ("Recipe",),
    ".core.rendered": ("Render",),
    ".core.edits.edits": ("Edits",),
}
_MODULE_OF = {name: module for module, names in _FROM.items() for name in names}
__all__ = sorted(_MODULE_OF)  # noqa: PLE0604

if TYPE_CHECKING:
    from .core.caches import CacheFolder as CacheFolder
    from .core.edits.edits import Edits as Edits
    from .core.errors import Cancelled as Cancelled
    from .core.errors import InputError as InputError
    from .core.errors import SivrelError as SivrelError
    from .core.pictures.exr import Picture as Picture
    from .core.render.recipe import Recipe as Recipe
    from .core.rendered import Render as Render
    from .core.task import Cancel as Cancel
    from .shot import Shot as Shot
    from .shot import View as View
    from .shot import compare as compare
    from .shot import diagnose as diagnose
    from .shot import open as open
    from .shot import read_picture as read_picture
    from .shot import recipe as recipe
    from .shot import recipe_and_edits as recipe_and_edits
    from .shot import warm_up as warm_up


def __getattr__(name: str) -> Any:
    if name not in _MODULE_OF:
        raise AttributeError(f"module 'sivrel' has no attribute '{name}'")
    return getattr(importlib.import_module(_MODULE_OF[name], __name__), name)


def __dir__() -> list[str]:
    return sorted([*globals(), *_MODULE_OF])
