"""The settings that every recipe has, group by group; those of a way of finding bounced light are in its module."""

from typing import Literal

from ..gi.ways import BEYOND, SEEN
from ..scene.model import Shadow
from ..scene.triangles import MOST_COPIED
from ..settings import Group, setting
from ..shadows.suspect_maps import MOST_RESOLUTION
from ..shadows.ways import CODES as SHADOW_WAYS

BOUNCING = {"gi.seen": [key for key, way in SEEN.items() if way.bounces]}
AMBIENT = {"gi.seen": ["ambient"]}


class GiSettings(Group):
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
        needs={"gi.seen": [key for key, way in SEEN.items() if way.asks_beyond]},
    )
    gloss: Literal["looked_up", "traced"] = setting(
        "looked_up",
        "wide gloss",
        "Where that is known, wide gloss over it is {}.",
        "looked_up: gloss of roughness 0.4 and more reflects the light that the way knows for the surface under it. Less grain, but the shape of its "
        "reflections is lost; the proof measures what that adds or takes. traced: by rays of its own.",
        needs={"gi.seen": [key for key, way in SEEN.items() if way.lookup is not None]},
    )


class LimitSettings(Group):
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
        "Removes fireflies, and their light with them: the proof measures how much.",
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


class LightSettings(Group):
    seen: Literal["all", "chosen"] = setting(
        "all",
        "lights seen",
        "What the camera sees aims at {}.",
        "All lights at every point, or some chosen by importance: with many lights much cheaper, and grainier. "
        "At points that the camera does not see, one light is always chosen.",
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


class MotionSettings(Group):
    grain: Literal["new", "held"] = setting(
        "new",
        "grain in motion",
        "From frame to frame grain is {}.",
        "For frames of a moving shot. new: each frame has grain of its own, which boils where there is too much of it. held: the same in every "
        "frame; where things move, it lies over them like a dirty pane.",
    )
    caches: Literal["each", "shared", "blended", "kept"] = setting(
        "each",
        "caches in motion",
        "Caches are {}.",
        "For frames of a moving shot. each: made for every frame; true to what moves, and may flicker. shared: made once, before the first frame, "
        "from frames spread over the range; they can't flicker, and do not follow what moves. blended: each frame uses those of its neighbours, "
        "too: a third of the flicker's power, light that moves blurs a little in time, and each cache is still made once. kept: as shared where "
        "light stays the same, made anew in each frame where it changes; follows what moves, and only flickers there.",
    )
    keys: int = setting(
        8,
        "frames gathered",
        "They are gathered from {} frames spread over the range.",
        "Too few leave places that the camera passes in between without records, which are traced there. The time before the first frame grows in "
        "proportion.",
        needs={"motion.caches": ["shared", "kept"]},
        ge=1,
        le=256,
    )
    blur: Literal["off", "on"] = setting(
        "off",
        "motion blur",
        "What moves is {}.",
        "For frames of a moving shot. off: sharp, as at one instant. on: blurred while the shutter is open, as a camera does it; fast things hide "
        "their grain, and each frame takes a little longer where objects or lights move.",
    )
    shutter: float = setting(
        0.0,
        "shutter time",
        "The shutter is open for {} of a frame,",
        "0: from when to when the camera in the file says, or for half a frame where it says nothing. More blurs more; 0.5 is usual, and 1 leaves no "
        "gap between frames.",
        step=0.05,
        needs={"motion.blur": ["on"]},
        ge=0.0,
        le=2.0,
    )
    steps: int = setting(
        8,
        "steps of blur",
        "and what moves is placed in at most {} steps.",
        "The camera moves without steps. Objects and lights are placed in as many as leave less than two pixels between them, up to this: more for "
        "what is very fast, fewer to save memory, which each takes once more.",
        needs={"motion.blur": ["on"]},
        ge=1,
        le=64,
    )


MAPPED = {"shadows.way": ["depth_map"]}


class ShadowSettings(Group):
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
        "Rays from each point that the camera sees to each light, for every sample of the pixel: they reduce the grain of soft "
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
        le=MOST_RESOLUTION,
    )
    filter: float = setting(
        2.0,
        "map filter",
        "softened over {} texels,",
        "Wider hides the steps and blurs contact shadows. 0 shows every texel.",
        unit="texels",
        needs=MAPPED,
        ge=0.0,
        le=32.0,
    )
    bias: float = setting(
        2.0,
        "map bias",
        "with {} texels of bias,",
        "Too little stripes surfaces with their own shadow, too much detaches contact shadows. Measured in texels, so it shrinks as the map grows.",
        unit="texels",
        needs=MAPPED,
        ge=0.0,
        le=64.0,
    )
    fit: Literal["scene", "view"] = setting(
        "scene",
        "map fit",
        "a sun's fitted to {}.",
        "The whole scene: right for any camera. The view: finer where most of the picture lies, and shadows are traced elsewhere.",
        needs=MAPPED,
    )

    def of_lights(self) -> Shadow:
        """The setting of a light that leaves its shadow to the recipe."""
        return Shadow(self.way, self.rays, self.resolution, self.filter, self.bias)


class AmbientSettings(Group):
    level: float = setting(
        0.1,
        "ambient level",
        "Ambient light of {} comes from everywhere,",
        "Radiance, in the unit of the scene's lights: what a white wall would show in the open. Together with bounced light it would count twice, "
        "so it is a way of its own.",
        needs=AMBIENT,
        ge=0.0,
        le=1e6,
    )
    occlusion: float = setting(
        1.0,
        "occlusion",
        "up to {} darker in creases.",
        "Strength of the darkening; 0 is flat, and needs no rays.",
        needs=AMBIENT,
        ge=0.0,
        le=1.0,
    )
    on_direct: float = setting(
        0.0,
        "occlusion on direct light",
        "Occlusion takes {} of the direct light, too.",
        "Not physical: it deepens contact where shadows are soft. The pass of occlusion is kept for compositing anyway.",
        needs={"ambient.samples": ["!0"]},
        ge=0.0,
        le=1.0,
    )
    samples: int = setting(
        0,
        "occlusion rays",
        "{} occlusion rays per sample; 0 makes no occlusion pass.",
        "Rays about each point that the camera sees; grain falls with more. Flat ambient light with occlusion takes at least one.",
        ge=0,
        le=256,
    )
    near: float = setting(
        0.0,
        "occlusion near",
        "Surfaces nearer than {} m count in full,",
        "From there to the reach they count less and less.",
        unit="m",
        needs={"ambient.samples": ["!0"]},
        ge=0.0,
        le=1e5,
    )
    reach: float = setting(
        1.0,
        "occlusion reach",
        "surfaces farther than {} m not at all.",
        "A short reach darkens creases only, a long one the whole room.",
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


class SamplingSettings(Group):
    max: int = setting(
        16,
        "samples",
        "At most {} samples a pixel.",
        "Four times the samples halve the grain; time grows in proportion.",
        ge=1,
        le=65536,
    )
    seconds: float = setting(
        0.0,
        "time",
        "Or as many as {} s allow, every pixel alike; 0 sets no time.",
        "The whole picture is rendered round by round, equally clean everywhere, and ends when the time is up: no pixel stops sooner, and there is "
        "no other limit on samples. The number of samples depends on the machine.",
        unit="s",
        ge=0.0,
        le=1e6,
    )
    noise_target: float = setting(
        0.0,
        "noise target",
        "A pixel stops sooner when its noise is under {} %; 0 lets none stop.",
        "Standard error of the perceived luminance, at the camera's exposure: at 5 % grain is visible on a plain wall, at 2 % "
        "hardly, at 1 % not at all. Samples go where the picture is grainy.",
        unit="%",
        ge=0.0,
        le=100.0,
    )
    noise_terms: Literal["eye", "linear"] = setting(
        "eye",
        "noise terms",
        "Noise is judged as {} sees it.",
        "The eye judges grain against the brightness of its spot, so dark corners get samples too. In linear terms it is judged "
        "against middle grey everywhere: right where the picture will be brightened or composited by a fixed gain, and bright parts get the samples.",
        needs={"sampling.noise_target": ["!0"]},
    )
    stop: Literal["error", "gain"] = setting(
        "error",
        "pixels stop",
        "A pixel stops by {}.",
        "By error, all pixels reach the same noise, and the worst ones take almost all samples. By gain, a pixel stops when one more sample improves "
        "it less than a sixteenth sample does at the target noise: the least noise on average over the picture for its time.",
        needs={"sampling.noise_target": ["!0"]},
    )
    min: int = setting(
        8,
        "least samples",
        "Each takes at least {}.",
        "Samples of every pixel before its noise is judged; with too few, some pixels stop too soon by chance.",
        needs={"sampling.noise_target": ["!0"]},
        ge=2,
        le=65536,
    )
    gi_rays: int = setting(
        1,
        "bounced rays",
        "Each sample scatters {} diffuse rays",
        "Diffuse rays from each point that the camera sees: they reduce the grain of bounced light without paying for more camera rays and "
        "shadow rays. With 1 and 1, one ray is drawn from both kinds.",
        needs=BOUNCING,
        ge=1,
        le=1024,
    )
    glossy_rays: int = setting(
        1,
        "glossy rays",
        "and {} glossy ones.",
        "The same for gloss, mirrors and glass.",
        needs=BOUNCING,
        ge=1,
        le=1024,
    )
    forks: float = setting(
        0.0,
        "forks",
        "At glass, panes and gloss a sample goes both ways while each carries {} % of its light; 0 draws one way.",
        "Reflections in windows lose their sparkle, and each sample takes longer: in the mean over a picture that is about even. Try 2 where bright "
        "things are seen in faint reflections.",
        unit="%",
        ge=0.0,
        le=50.0,
    )


class SurfaceSettings(Group):
    stand_ins: Literal["none", "costly", "all"] = setting(
        "none",
        "stand-ins",
        "Plain stand-ins of the same mean colour take the place of {} surfaces.",
        "For lighting fast: costly ones are glass, coats, metals, gloss and cut-outs. An object can be given one by itself. The picture is not "
        "final until they are gone.",
    )
    subdivide: float = setting(
        4.0,
        "subdivided edges",
        "Subdivision surfaces are refined until their edges are at most {}",
        "Longer edges show as corners in outlines and in the ends of shadows; half as long, there are four times the triangles. 0 renders the cages "
        "as they are.",
        ge=0.0,
        le=1e4,
    )
    subdivide_unit: Literal["px", "m"] = setting(
        "px",
        "unit of subdivided edges",
        "{} long,",
        "Pixels follow the picture: near surfaces get more triangles. Metres are the same from every camera and in every frame, as bakes and moving "
        "shots need.",
    )
    subdivide_levels: int = setting(
        4,
        "levels of subdivision",
        "in at most {} steps.",
        "Each step makes four faces of one. All together make at most eight million triangles: above, the largest surfaces stay coarser.",
        ge=1,
        le=7,
    )
    copied: int = setting(
        500_000,
        "copied triangles",
        "Objects that are placed several times are copied, the smallest first, as long as the copies have no more than {} triangles.",
        "Others are stored once, whatever their number. A ray finds its way among copies in less time, and each takes about 200 bytes a triangle.",
        ge=0,
        le=MOST_COPIED,
    )
    filtering: float = setting(
        0.5,
        "texture filtering",
        "Textures are averaged over {} of a pixel",
        "Wider is calmer and softer, narrower sharper with more grain. Beyond a bounce they are averaged over the width of its ray. Cut-outs and "
        "light are never averaged. 0 looks every texel up in full.",
        unit="px",
        ge=0.0,
        le=8.0,
    )
