"""Renders with planted flaws of every kind, and clean twins: what a diagnosis is held to.

Each case is a room made by chance (rooms.py) with a recipe, and what is wrong with the two together: the kind, and the causes that explain it.
Severity runs from 0, just seen, to 1.
"""

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from sivrel.core.diagnose.case import Case
from sivrel.core.diagnose.render import render_case
from sivrel.core.diagnose.trial_renderer import TrialRenderer
from sivrel.core.edits.edits import Edits, with_edits
from sivrel.core.render.filter import filter_noise
from sivrel.core.render.frame import Frame
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.scene.frames import upright_frame
from sivrel.core.scene.model import Light, Surface

from . import rooms
from .rooms import Room, ball, exposed, room

SIZE = (192, 108)
CLEAN = {
    "gi.seen": "irradiance_cache", "gi.beyond": "brute_force", "irradiance_cache.rays": 512, "irradiance_cache.error": 0.3,
    "irradiance_cache.min_spacing": 2.0, "irradiance_cache.corner_distance": 0.3, "sampling.max": 64, "shadows.rays": 4, "sampling.glossy_rays": 2,
    "limits.diffuse_bounces": 12,
}  # fmt: skip
"""A recipe with few flaws beside the one that is planted, for rooms of this kind."""
SMOOTH = {"gi.seen": "photon_map", "photon_map.final_gather_rays": 0, "photon_map.count": 300_000, "sampling.glossy_rays": 4}
"""Bounced light without grain."""
TWIN_SIZE, TWIN = (128, 72), {"sampling.max": 3000, "limits.diffuse_bounces": 16}
"""Of clean twins: small, and traced for long."""


@dataclass
class Planted:
    """room; values of the recipe; edits; kinds that the flaw may be called, causes that explain it; filtered: whether its noise is filtered;
    size: in pixels; also: (kinds, causes) of further flaws of the same picture."""

    room: Room
    kinds: set[str]
    causes: set[str]
    values: dict[str, Any] = field(default_factory=dict)
    edits: dict[str, Any] = field(default_factory=dict)
    filtered: bool = False
    size: tuple[int, int] = SIZE
    also: tuple[tuple[set[str], set[str]], ...] = ()

    @property
    def flaws(self) -> list[tuple[set[str], set[str]]]:
        """(kinds, causes) of every flaw that was planted."""
        return [(self.kinds, self.causes), *self.also] if self.kinds else list(self.also)

    def render(self, seed: int = 0) -> tuple[Case, TrialRenderer]:
        recipe, edits = with_values(Recipe(), self.values), with_edits(Edits(), self.edits)
        made = render_case(self.room.scene, recipe, edits, None, Frame(*self.size, seed=seed))
        assert made is not None
        if self.filtered:
            filtered = filter_noise(made[0].picture.passes, learned=False)
            made[0].filtered, made[0].smear = filtered.image, filtered.smear
        return made


def _between(severity: float, faint: float, strong: float) -> float:
    """A value between two, evenly on a logarithmic scale."""
    return float(np.exp(np.log(faint) + severity * (np.log(strong) - np.log(faint))))


def _evening(r: Room) -> Room:
    """Lit by its lamp alone, behind a window that is shut."""
    r.scene.lights[:] = [light for light in r.scene.lights if light.kind not in ("sun", "dome", "rect")]
    return exposed(r)


def clean(seed: int) -> Planted:
    return Planted(room(seed), set(), set(), dict(TWIN), size=TWIN_SIZE)


def grain_of_lamp(r: Room, s: float) -> Planted:
    # Wide and near, so that its soft shadow is what is grainy; a small lamp leaves most of the grain to edges.
    r.light("Lamp", kind="disk", radius=0.8, width=1.6, height=1.6, intensity=2.0, position=tuple((r.size * [0.5, 0.9, 0.5]).tolist()))
    _evening(r)
    return Planted(r, {"grain"}, {"source Lamp"}, {**SMOOTH, "sampling.max": round(_between(s, 12, 5)), "shadows.rays": 1})


def grain_of_bounces(r: Room, s: float) -> Planted:
    values = {"sampling.max": round(_between(s, 32, 4)), "shadows.rays": 4, "limits.diffuse_bounces": 8}
    return Planted(r, {"grain"}, {"source bounced light"}, values)


def fireflies_of_glow(r: Room, s: float) -> Planted:
    rooms.small_glow(r)
    return Planted(r, {"fireflies", "grain"}, {"glow /Room/Bulb"}, {"sampling.max": 24, "limits.diffuse_bounces": 4})


def fireflies_of_caustics(r: Room, s: float) -> Planted:
    _glass(r, 0.2)
    _evening(r)
    r.light("Lamp", radius=0.05, intensity=100.0)  # smaller, and no path would find it behind the glass
    exposed(r)
    return Planted(r, {"fireflies"}, {"caustic paths"}, {"sampling.max": round(_between(s, 64, 32)), "limits.refractions": 12, "shadows.rays": 2})


def blotches_of_rays(r: Room, s: float) -> Planted:
    return Planted(
        r,
        {"blotches"},
        {"record rays"},
        {**CLEAN, "irradiance_cache.rays": round(_between(s, 48, 16)), "irradiance_cache.error": 0.4, "irradiance_cache.corner_distance": 0.0},
    )


def blotches_of_spacing(r: Room, s: float) -> Planted:
    values = {"irradiance_cache.error": 2.0, "irradiance_cache.max_spacing": 400.0, "irradiance_cache.min_spacing": _between(s, 20.0, 60.0),
              "irradiance_cache.gradients": "no", "irradiance_cache.corner_distance": 0.0, "irradiance_cache.smoothing": 0.1}  # fmt: skip
    causes = {"cache error", "greatest spacing", "gradients", "least spacing", "record spacing"}
    return Planted(r, {"blotches", "lost contact shadow", "leak", "dark corner"}, causes, {**CLEAN, **values})


def blotches_of_photons(r: Room, s: float) -> Planted:
    values = {"gi.seen": "photon_map", "photon_map.count": round(_between(s, 6000, 800)), "photon_map.final_gather_rays": 0, "sampling.max": 32}
    return Planted(r, {"blotches"}, {"photons", "photons gathered", "looked up at once"}, {**CLEAN, **values})


def blotches_of_bake(r: Room, s: float) -> Planted:
    values = {"gi.seen": "baked", "baked.max_edge": _between(s, 0.7, 1.3), "baked.refine": 0, "baked.final_gather_rays": 0, "sampling.max": 32}
    return Planted(r, {"blotches", "leak", "dark corner", "lost contact shadow"}, {"elements", "refining", "looked up at once"}, {**CLEAN, **values})


def leak_through_sheet(r: Room, s: float) -> Planted:
    _, name = rooms.sheet(r)
    _sun_on(r, name)
    values = {"gi.seen": "photon_map", "photon_map.final_gather_rays": 0, "photon_map.radius": _between(s, 0.2, 0.5), "photon_map.count": 400_000,
              "sampling.max": 48}  # fmt: skip
    return Planted(r, {"leak"}, {f"sheet {name}", "gather radius", "looked up at once"}, {**CLEAN, **values})


def leak_by_interpolation(r: Room, s: float) -> Planted:
    rooms.niche(r)
    values = {"irradiance_cache.visible": "no", "irradiance_cache.error": _between(s, 0.8, 1.6), "irradiance_cache.smoothing": _between(s, 1.0, 2.0),
              "irradiance_cache.corner_distance": 0.0, "irradiance_cache.min_spacing": _between(s, 15.0, 40.0)}  # fmt: skip
    causes = {"interpolation", "smoothing", "cache error", "least spacing", "greatest spacing", "record spacing"}
    return Planted(r, {"leak", "lost contact shadow"}, causes, {**CLEAN, **values})


def leak_by_gap(r: Room, s: float) -> Planted:
    low, high = r.slabs["North"]
    high = high - [0.0, 0.02 + _between(s, 0.03, 0.055), 0.0]
    r.put(rooms.subdivided(rooms.box("/Room/North", low, high, rooms.WALLS), 1.3))
    out = np.array([0.1, 0.05, -1.0])  # low: higher, and no sun would get through the depth of the wall
    r.light("Sun", frame=upright_frame(out), position=tuple(out * 10.0), intensity=3.0)
    exposed(r)
    return Planted(r, {"leak"}, {"gap"}, {"sampling.max": 96, "limits.diffuse_bounces": 8})


def leak_of_cells(r: Room, s: float) -> Planted:
    values = {"gi.seen": "radiance_cache", "radiance_cache.cell": _between(s, 0.9, 2.0), "radiance_cache.paths": 8, "sampling.max": 48}
    return Planted(r, {"leak", "blotches", "dark corner", "lost contact shadow"}, {"cells"}, {**CLEAN, **values})


def steps(r: Room, s: float) -> Planted:
    values = {"shadows.filter": 0.0, "sampling.max": 48}
    edits = {"light.Sun.shadows.way": "depth_map", "light.Sun.shadows.resolution": round(_between(s, 96, 32))}
    return Planted(_sunny(r), {"steps", "lost contact shadow"}, {"map resolution", "map fit", "depth map"}, {**CLEAN, **values}, edits)


def speckle(r: Room, s: float) -> Planted:
    return Planted(r, {"speckle"}, {"ray offset"}, {**CLEAN, "limits.ray_offset": _between(s, 6e-8, 1e-8), "sampling.max": 48})


def striped_map(r: Room, s: float) -> Planted:
    values = {"shadows.way": "depth_map", "shadows.bias": _between(s, 0.05, 0.01), "shadows.resolution": 512, "sampling.max": 48}
    return Planted(r, {"speckle"}, {"map bias small"}, {**CLEAN, **values})


def detached_by_bias(r: Room, s: float) -> Planted:
    values = {"shadows.way": "depth_map", "shadows.bias": _between(s, 30, 60), "shadows.resolution": 256, "sampling.max": 48}
    return Planted(_sunny(r), {"lost contact shadow", "leak"}, {"map bias large"}, {**CLEAN, **values})


def mushy_by_filter(r: Room, s: float) -> Planted:
    values = {"shadows.way": "depth_map", "shadows.filter": _between(s, 16, 32), "shadows.resolution": 384, "sampling.max": 48}
    return Planted(_sunny(r), {"lost contact shadow"}, {"map filter", "map resolution"}, {**CLEAN, **values})


def detached_by_offset(r: Room, s: float) -> Planted:
    return Planted(r, {"lost contact shadow", "leak"}, {"ray offset"}, {**CLEAN, "limits.ray_offset": _between(s, 0.04, 0.15), "sampling.max": 48})


def dark_by_radius(r: Room, s: float) -> Planted:
    values = {"gi.seen": "photon_map", "photon_map.final_gather_rays": 0, "photon_map.radius": _between(s, 0.4, 0.9), "photon_map.count": 200_000,
              "sampling.max": 48}  # fmt: skip
    return Planted(r, {"dark corner", "blotches", "leak", "dim"}, {"gather radius", "looked up at once"}, {**CLEAN, **values})


def black_glass(r: Room, s: float) -> Planted:
    _glass(r, 0.2)
    return Planted(r, {"black glass"}, {"glass limit"}, {**CLEAN, "limits.refractions": 0 if s > 0.5 else 1, "sampling.max": 64})


def dim_by_clamp(r: Room, s: float) -> Planted:
    level = 2.0 ** -r.scene.cameras[0].exposure
    values = {"sampling.max": 48, "limits.diffuse_bounces": 12, "limits.indirect_clamp": level * _between(s, 0.4, 0.1)}
    return Planted(r, {"dim", "dark corner"}, {"clamp"}, values)


def dim_by_bounces(r: Room, s: float) -> Planted:
    return Planted(r, {"dim", "dark corner"}, {"diffuse bounces"}, {**CLEAN, "limits.diffuse_bounces": 0 if s > 0.5 else 1})


def dim_without_bounces(r: Room, s: float) -> Planted:
    return Planted(r, {"dim", "dark corner"}, {"no bounced light"}, {**CLEAN, "gi.seen": "off"})


def burnt(r: Room, s: float) -> Planted:
    r.scene.cameras[:] = [replace(c, exposure=c.exposure + 4.5 + 1.5 * s) for c in r.scene.cameras]
    return Planted(r, {"burnt"}, {"exposure"}, dict(CLEAN))


def flat_by_ambient(r: Room, s: float) -> Planted:
    level = 2.0 ** -r.scene.cameras[0].exposure * _between(s, 0.3, 0.8)
    return Planted(r, {"flat"}, {"ambient"}, {**CLEAN, "gi.seen": "ambient", "ambient.level": level, "ambient.occlusion": 0.3})


def two_suns(r: Room, s: float) -> Planted:
    _sunny(r)
    rooms.two_suns(r)
    return Planted(r, {"two suns"}, {"second sun"}, {**CLEAN, "sampling.max": 64})


def smeared(r: Room, s: float) -> Planted:
    _sunny(r)
    rooms.blind_is_no_fault(r)
    return Planted(r, {"smear"}, {"filter"}, {"sampling.max": round(_between(s, 4, 2)), "limits.diffuse_bounces": 4}, filtered=True)


def slow_by_rays(r: Room, s: float) -> Planted:
    r.scene.lights.append(Light("Spark", "sphere", intensity=1.0, radius=0.01, position=tuple((r.size * [0.5, 0.8, 0.6]).tolist())))
    return Planted(r, {"slow"}, {"source Spark"}, {**CLEAN, "sampling.max": 24}, {"light.Spark.shadows.rays": round(_between(s, 64, 256))})


def _glass(r: Room, radius: float) -> None:
    """A glass ball in place of the one on the table, and one before the camera's middle."""
    r.scene.surfaces.append(Surface("Crystal", (1.0, 1.0, 1.0), roughness=0.0, opacity=0.0, ior=1.5, see_through="solid"))
    old = r.mesh("/Room/Ball").vertices.reshape(-1, 3)
    at = (old.min(axis=0) + old.max(axis=0)) / 2.0
    at = np.array([at[0], 0.745 + radius, at[2]])
    made = ball("/Room/Ball", at, radius, len(r.scene.surfaces) - 1, 20)
    r.put(replace(made, name="/Room/Ball"))


def _sun_on(r: Room, wall: str) -> None:
    """Turn the sun so that it stands before a wall's outside, high."""
    out = {"/Room/North": (0.2, 0.5, -1.0), "/Room/East": (-1.0, 0.5, 0.2), "/Room/South": (0.2, 0.5, 1.0)}[wall]
    r.light("Sun", frame=upright_frame(np.array(out)), position=tuple(np.array(out) * 10.0), intensity=3.0)
    exposed(r)


def _sunny(r: Room) -> Room:
    """Let the sun in by the middle of the window, onto the table, which the camera always sees."""
    table = r.mesh("/Room/Table/Top").vertices.reshape(-1, 3).mean(axis=0)
    low, high = r.slabs["West/Below"], r.slabs["West/Above"]
    window = np.array([r.size[0], (low[1][1] + high[0][1]) / 2.0, (r.slabs["West/Left"][1][2] + r.slabs["West/Right"][0][2]) / 2.0])
    out = (window - table) / np.linalg.norm(window - table)
    r.light("Sun", frame=upright_frame(out), position=tuple(out * 10.0), intensity=3.0)
    return exposed(r)


FLAWS = (
    grain_of_lamp, grain_of_bounces, fireflies_of_glow, fireflies_of_caustics, blotches_of_rays, blotches_of_spacing, blotches_of_photons,
    blotches_of_bake, leak_through_sheet, leak_by_interpolation, leak_by_gap, leak_of_cells, steps, speckle, striped_map, detached_by_bias,
    mushy_by_filter, detached_by_offset, dark_by_radius, black_glass, dim_by_clamp, dim_by_bounces, dim_without_bounces, burnt, flat_by_ambient,
    two_suns, smeared, slow_by_rays,
)  # fmt: skip
