"""Two suns: one in a panorama, together with a sun light."""

import numpy as np

from ..render.passes import LIGHT, layer_of
from ..survey import suns
from ..survey.look import Look
from .case import Case, placed
from .finding import Finding, Remedy, Suspect


def find(case: Case, look: Look) -> list[Finding]:
    made = []
    for double in suns.check(look):
        sun = double.objects[1]
        layer = case.picture.passes.get(LIGHT + layer_of(sun))
        mask = np.ones(case.light.shape, bool) if layer is None else layer.max(axis=2) > 0.05 * case.mean
        if mask.mean() < 0.005:
            continue  # neither visibly lights this picture
        found = placed(
            case,
            mask,
            kind="two suns",
            measure="bias",
            amount=0.3,
            contrast=0.3,
            size=60.0,
            seen=8.0,
            sign=1,
            title="Everything casts two shadows.",
            why=double.title,
            evidence=double.evidence,
            about=sun,
        )
        found.suspects = [
            Suspect(
                "second sun",
                "a sun in the panorama and a sun light in different directions",
                edits=double.mends[1].edits,
                prior=5.0,
                kind="two suns",
                cure=double.mends[1].words,
                others=[Remedy(double.mends[0].words, edits=double.mends[0].edits)],
            )
        ]
        made.append(found)
    return made
