"""The recipe: every setting of a render, with its unit, range, default and what it trades.

This declaration is the one source of the form on the bench, the command line's `--set`, the reference in
docs/recipe.md and the words in which two recipes differ.
"""

import difflib
import json
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from ..errors import InputError
from ..gi.photon_map import MOST_GATHERED
from ..gi.ways import BEYOND, SEEN
from ..scene.model import Shadow
from ..shadows.ways import CODES as SHADOW_WAYS

VERSION = 1


QUESTIONS = {
    "gi": "How light gets around",
    "lights": "Which lights are aimed at",
    "shadows": "How shadows are cut",
    "limits": "Where paths stop",
    "sampling": "Where samples go",
    "photon_map": "How photons serve",
    "ambient": "What lies near",
    "surfaces": "What surfaces are",
}
"""The question that each group of settings answers."""


def setting(
    default: Any, name: str, phrase: str, trades: str, unit: str = "", needs: dict[str, list[str]] | None = None,
    **limits: Any,
) -> Any:  # fmt: skip
    """One setting: its default, what it is called, the sentence that its control stands in (at {}), what it trades,
    its unit, the values of other settings without which it is not in use (of one of several, parted by |), and its range."""
    extra: Any = {"unit": unit, "phrase": phrase, "needs": needs or {}}
    return Field(default, title=name, description=trades, json_schema_extra=extra, **limits)


class _Group(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


BOUNCING = {"gi.seen": [key for key, way in SEEN.items() if way.bounces]}
AMBIENT = {"gi.seen": ["ambient"]}


class GiSettings(_Group):
    seen: Literal[tuple(SEEN)] = setting(  # type: ignore[valid-type]
        "brute_force",
        "seen",
        "What the camera sees gathers bounced light by {}.",
        "How bounced light is found at what the camera sees.",
    )
    beyond: Literal[tuple(BEYOND)] = setting(  # type: ignore[valid-type]
        "brute_force",
        "beyond",
        "Beyond it, by {}.",
        "How bounced light is found at everything after; coarser is often enough.",
        needs={"gi.seen": ["brute_force"]},
    )


class LimitSettings(_Group):
    diffuse_bounces: int = setting(
        4,
        "diffuse bounces",
        "Up to {} diffuse bounces,",
        "More lighten and tint closed rooms, each with less effect; fewer are faster.",
        needs=BOUNCING,
        ge=0,
        le=64,
    )
    reflections: int = setting(
        4,
        "reflections",
        "{} reflections,",
        "More show mirrors in mirrors; fewer are faster.",
        needs=BOUNCING,
        ge=0,
        le=64,
    )
    refractions: int = setting(
        8,
        "glass",
        "and {} times through glass,",
        "Crossings of solid glass, and reflections inside it; a thin pane costs none. Too few leave glass black.",
        needs=BOUNCING,
        ge=0,
        le=64,
    )
    total: int = setting(
        64,
        "bounces in all",
        "{} in all.",
        "Of every kind together: a bound on what one path may cost.",
        needs=BOUNCING,
        ge=0,
        le=128,
    )
    indirect_clamp: float = setting(
        0.0,
        "clamp",
        "One sample brings at most {} of indirect light; 0 lets it bring any.",
        "Takes the sparkle out of rare bright samples, and their light with it: the proof measures how much.",
        needs=BOUNCING,
        ge=0.0,
        le=1e6,
    )
    ray_offset: float = setting(
        0.0,
        "ray offset",
        "Rays start {} m off a surface; 0 leaves it to the scene's size.",
        "Keeps a ray from hitting the surface it leaves. 0 follows from the scene's size. Too small gives speckle, "
        "too large gaps under contact and leaks.",
        unit="m",
        ge=0.0,
        le=1.0,
    )


class LightSettings(_Group):
    seen: Literal["all", "chosen"] = setting(
        "all",
        "lights seen",
        "What the camera sees aims at {}.",
        "All lights at every point, or some chosen by importance: with many lights that is far cheaper, and grainier. "
        "Beyond what the camera sees one light is always chosen.",
    )
    draws: int = setting(
        4,
        "lights drawn",
        "It draws {} of them at each point.",
        "How many lights are drawn at each point; grain falls with more, time grows in proportion.",
        needs={"lights.seen": ["chosen"]},
        ge=1,
        le=256,
    )


MAPPED = {"shadows.way": ["depth_map"]}


class ShadowSettings(_Group):
    way: Literal[tuple(SHADOW_WAYS)] = setting(  # type: ignore[valid-type]
        "traced",
        "shadows",
        "Shadows are cut by {},",
        "How shadows are cut; each light may have a way of its own. A sky and a glowing mesh are always traced.",
    )
    rays: int = setting(
        1,
        "shadow rays",
        "{} to each light at each point.",
        "Rays from each point that the camera sees to each light, for every sample of the pixel: they clear the grain of soft "
        "shadows without paying for more camera rays.",
        needs={"lights.seen": ["all"], "shadows.way": ["traced"]},
        ge=1,
        le=256,
    )
    resolution: int = setting(
        1024,
        "map resolution",
        "{} texels across,",
        "More make finer edges and take more memory; steps show where a texel is larger than a pixel.",
        unit="texels",
        needs=MAPPED,
        ge=16,
        le=8192,
    )
    filter: float = setting(
        2.0,
        "map filter",
        "softened over {} texels,",
        "Wider hides the steps and makes contact mushy. 0 shows every texel.",
        unit="texels",
        needs=MAPPED,
        ge=0.0,
        le=32.0,
    )
    bias: float = setting(
        2.0,
        "map bias",
        "with {} texels of bias,",
        "Too little stripes surfaces with their own shadow, too much lets light under contact. It counts in texels, so it shrinks as the map grows.",
        unit="texels",
        needs=MAPPED,
        ge=0.0,
        le=64.0,
    )
    fit: Literal["scene", "view"] = setting(
        "scene",
        "map fit",
        "a sun's fitted to {}.",
        "The whole scene: good for any camera. The view: the texels where most of the picture lies, traced beyond.",
        needs=MAPPED,
    )

    def of_lights(self) -> Shadow:
        """What a light does that leaves its shadow to the recipe."""
        return Shadow(self.way, self.rays, self.resolution, self.filter, self.bias)


PHOTONS = {"gi.seen|gi.beyond": ["photon_map"], "gi.seen": ["photon_map", "brute_force"]}
SEEN_BY_PHOTONS = {"gi.seen": ["photon_map"]}


class PhotonMapSettings(_Group):
    count: int = setting(
        200_000,
        "photons",
        "At least {} photons land in the scene",
        "More allow a smaller radius: finer shadows of bounced light for the same grain. Time and memory grow in proportion.",
        needs=PHOTONS,
        ge=100,
        le=20_000_000,
    )
    bounces: int = setting(
        8,
        "photon bounces",
        "after up to {} bounces;",
        "Deep bounces cost photons next to nothing.",
        needs=PHOTONS,
        ge=1,
        le=64,
    )
    gather: int = setting(
        80,
        "photons gathered",
        "{} of them are gathered at a point,",
        "More give smoother light and blur its shadows; fewer give blotches.",
        needs=PHOTONS,
        ge=2,
        le=MOST_GATHERED,
    )
    radius: float = setting(
        0.0,
        "gather radius",
        "within {} m; 0 leaves it to their density.",
        "Too small leaves blotches and black spots, too large darkens corners and leaks through thin walls.",
        unit="m",
        needs=PHOTONS,
        ge=0.0,
        le=1e4,
    )
    normal_tolerance: float = setting(
        60.0,
        "normal tolerance",
        "Photons on surfaces turned by more than {}° do not count.",
        "Keeps light of one side of an edge from the other.",
        unit="°",
        needs=PHOTONS,
        ge=1.0,
        le=180.0,
    )
    final_gather_rays: int = setting(
        8,
        "gather rays",
        "{} rays gather the photons from afar; 0 looks them up at once.",
        "Rays scattered from each point that the camera sees look photons up where they land: blotches even out, at the price of rays.",
        needs=SEEN_BY_PHOTONS,
        ge=0,
        le=1024,
    )
    corner_distance: float = setting(
        0.1,
        "corner distance",
        "What they meet nearer than {} m is traced on.",
        "Near corners a radius reaches round the edge: there the path goes on by brute force.",
        unit="m",
        needs=PHOTONS,
        ge=0.0,
        le=1e4,
    )


class AmbientSettings(_Group):
    level: float = setting(
        0.1,
        "ambient level",
        "Ambient light of {} comes from everywhere,",
        "Radiance, in the unit of the scene's lights: what a white wall would show in the open. Left on with bounced light it would count twice, "
        "so it is a way of its own.",
        needs=AMBIENT,
        ge=0.0,
        le=1e6,
    )
    occlusion: float = setting(
        1.0,
        "occlusion",
        "{} of it less where all is near.",
        "Strength of the darkening in creases; 0 is wholly flat, and needs no rays.",
        needs=AMBIENT,
        ge=0.0,
        le=1.0,
    )
    on_direct: float = setting(
        0.0,
        "occlusion on direct light",
        "Occlusion takes {} of the direct light, too.",
        "Not what light does: it deepens contact where shadows are soft. The pass of occlusion is kept for compositing anyway.",
        needs={"ambient.samples": ["!0"]},
        ge=0.0,
        le=1.0,
    )
    samples: int = setting(
        0,
        "occlusion rays",
        "{} rays a sample look for what is near; 0 makes no occlusion pass.",
        "Rays about each point that the camera sees; grain falls with more. Flat ambient light with occlusion takes at least one.",
        ge=0,
        le=256,
    )
    near: float = setting(
        0.0,
        "occlusion near",
        "What is nearer than {} m counts wholly,",
        "From there to the reach what is met counts less and less.",
        unit="m",
        needs={"ambient.samples": ["!0"]},
        ge=0.0,
        le=1e5,
    )
    reach: float = setting(
        1.0,
        "occlusion reach",
        "what is farther than {} m not at all.",
        "Short reaches darken creases alone, long ones the whole room.",
        unit="m",
        needs={"ambient.samples": ["!0"]},
        ge=0.001,
        le=1e5,
    )
    contrast: float = setting(
        1.0,
        "occlusion contrast",
        "Between the two it fades with a contrast of {}.",
        "At 1 in proportion to the distance; above 1 creases darken wider, below 1 tighter.",
        needs={"ambient.samples": ["!0"]},
        ge=0.05,
        le=20.0,
    )


class SamplingSettings(_Group):
    max: int = setting(
        16,
        "samples",
        "At most {} samples a pixel.",
        "Grain halves when this is four times as large; time grows in proportion.",
        ge=1,
        le=65536,
    )
    noise_target: float = setting(
        0.0,
        "noise target",
        "A pixel stops sooner when its noise is under {} %; 0 lets none stop.",
        "Standard error of the luminance as the eye takes it, at the camera's exposure: at 5 % grain is seen on a plain wall, at 2 % "
        "hardly, at 1 % not at all. Samples then go where the picture is grainy.",
        unit="%",
        ge=0.0,
        le=100.0,
    )
    noise_terms: Literal["eye", "linear"] = setting(
        "eye",
        "noise terms",
        "Noise counts as {} takes it.",
        "The eye judges grain against the brightness of its spot, so dark corners get samples too. In linear terms it is judged "
        "against middle grey everywhere: right where the picture will be brightened or composited by a fixed gain, and bright parts get the samples.",
        needs={"sampling.noise_target": ["!0"]},
    )
    min: int = setting(
        8,
        "least samples",
        "It takes at least {} before.",
        "Taken by every pixel before its noise is judged; with too few, lucky pixels stop too soon.",
        needs={"sampling.noise_target": ["!0"]},
        ge=2,
        le=65536,
    )
    gi_rays: int = setting(
        1,
        "bounced rays",
        "Each sample scatters {} rays by the base",
        "Rays of bounced light from each point that the camera sees: they clear its grain without paying for more camera rays and "
        "shadow rays. With 1 and 1 a single ray is drawn from both.",
        needs=BOUNCING,
        ge=1,
        le=1024,
    )
    glossy_rays: int = setting(
        1,
        "glossy rays",
        "and {} by gloss and glass.",
        "The same for what shines, mirrors and glass.",
        needs=BOUNCING,
        ge=1,
        le=1024,
    )


class SurfaceSettings(_Group):
    stand_ins: Literal["none", "costly", "all"] = setting(
        "none",
        "stand-ins",
        "Plain stand-ins of the same mean colour take the place of {} surfaces.",
        "For lighting fast: costly ones are glass, coats, metals, gloss and cut-outs. An object can be given one by itself. The picture is not "
        "final until they are gone.",
    )


class Recipe(_Group):
    """All settings. `Recipe()` is the default; keys are `group.setting`."""

    gi: GiSettings = GiSettings()
    lights: LightSettings = LightSettings()
    shadows: ShadowSettings = ShadowSettings()
    limits: LimitSettings = LimitSettings()
    sampling: SamplingSettings = SamplingSettings()
    photon_map: PhotonMapSettings = PhotonMapSettings()
    ambient: AmbientSettings = AmbientSettings()
    surfaces: SurfaceSettings = SurfaceSettings()

    def flat(self) -> dict[str, Any]:
        """Values by key, in the order of declaration."""
        return {f"{g}.{s}": value for g, group in self.model_dump().items() for s, value in group.items()}


class SettingInfo(BaseModel):
    """What is declared about one key."""

    key: str
    name: str
    trades: str
    unit: str
    type: str
    default: Any
    phrase: str
    needs: dict[str, list[str]]
    minimum: float | None = None
    maximum: float | None = None
    choices: list[str] | None = None


def settings() -> dict[str, SettingInfo]:
    """Every key with its declaration, in order."""
    infos = {}
    for group, group_field in Recipe.model_fields.items():
        schema = group_field.annotation.model_json_schema()["properties"]  # type: ignore[union-attr]
        for name, prop in schema.items():
            choices = prop.get("enum")
            infos[f"{group}.{name}"] = SettingInfo(
                key=f"{group}.{name}",
                name=prop["title"],
                trades=prop["description"],
                unit=prop["unit"],
                phrase=prop["phrase"],
                needs=prop["needs"],
                type="choice" if choices else prop["type"],
                default=prop["default"],
                minimum=prop.get("minimum"),
                maximum=prop.get("maximum"),
                choices=choices,
            )
    return infos


def with_values(recipe: Recipe, values: dict[str, Any]) -> Recipe:
    """`recipe` with some keys set, values as text or as themselves. Raises InputError with one sentence."""
    known = settings()
    groups: dict[str, dict[str, Any]] = recipe.model_dump()
    for key, value in values.items():
        if key not in known:
            near = difflib.get_close_matches(key, known, n=1, cutoff=0.3)
            offer = f" Did you mean “{near[0]}”?" if near else ""
            raise InputError(f"There is no setting “{key}”.{offer} `sivrel recipes` lists them all.")
        group, name = key.split(".")
        groups[group][name] = value
    try:
        return Recipe.model_validate(groups)
    except ValidationError as error:
        raise InputError(_sentence(error, known)) from None


def _sentence(error: ValidationError, known: dict[str, SettingInfo]) -> str:
    first = error.errors()[0]
    key = ".".join(str(part) for part in first["loc"][:2])
    given = first["input"]
    info = known.get(key)
    if info is None:
        return f"The recipe has something unknown at “{key}”; remove it."
    if info.choices:
        return f"{key} can't be “{given}”; choose one of: {', '.join(info.choices)}."
    kind = "a whole number" if info.type == "integer" else "a number"
    unit = f" {info.unit}" if info.unit else ""
    return f"{key} can't be “{given}”; give {kind} from {info.minimum:g} to {info.maximum:g}{unit}."


def to_json(recipe: Recipe) -> str:
    """The recipe as it is stored in files and picture headers."""
    return json.dumps({"version": VERSION, **recipe.model_dump()}, sort_keys=True)


def from_json(text: str | bytes) -> Recipe:
    """The inverse of `to_json`; keys that are missing take their defaults. Raises InputError."""
    try:
        data = json.loads(text)
    except ValueError:
        raise InputError("The recipe is not JSON; write one with `sivrel recipes --json` as a pattern.") from None
    if not isinstance(data, dict) or data.get("version", VERSION) != VERSION:
        raise InputError(f"The recipe is not of version {VERSION}, the one this program reads.")
    values = {}
    for group, members in data.items():
        if group != "version":
            if not isinstance(members, dict):
                raise InputError(f"The recipe has a plain value at “{group}”, where a group of settings is meant.")
            values.update({f"{group}.{name}": value for name, value in members.items()})
    return with_values(Recipe(), values)


def difference(before: Recipe, after: Recipe) -> list[tuple[str, Any, Any]]:
    """(key, value before, value after) of every setting that differs."""
    old, new = before.flat(), after.flat()
    return [(key, old[key], new[key]) for key in new if old[key] != new[key]]
