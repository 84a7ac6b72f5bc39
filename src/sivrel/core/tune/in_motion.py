"""How settings are judged in motion: by the flicker of a few boxes in three neighbouring frames, in times what is just seen."""

from collections.abc import Callable
from typing import Any, NamedTuple

from ..edits.edits import Edits
from ..render.recipe import Recipe

JUST_SEEN = 1.0


class MotionLevel(NamedTuple):
    """level: root mean square of the flicker, 1 where it is just seen; error: its standard error."""

    level: float
    error: float

    @property
    def hidden(self) -> bool:
        return self.level <= JUST_SEEN

    def as_dict(self) -> dict[str, Any]:
        return {"level": self.level, "error": self.error}

    @property
    def words(self) -> str:
        """As in “flickers 3.2 times what is just seen”."""
        return f"{self.level:.2g} times what is just seen" if not self.hidden else f"{self.level:.2f} of what is just seen"


JudgeInMotion = Callable[[Recipe, Edits], MotionLevel]
"""The flicker of the shot with a recipe and edits."""
