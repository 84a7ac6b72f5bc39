"""The light path from the eye to the lights, top to bottom.

At every point that a path meets, light that comes straight from the lights is found by aiming at them (next-event
estimation) and by chance (the scattered ray meets a light); see `lights/direct.py`. Light that has bounced is found the
way that the recipe chooses: `seen` where the camera looks, also in mirrors; `beyond` everywhere after. The steps are in `path.py`, and in
`path_light.py` those that add light.
"""

from typing import NamedTuple

import numpy as np

from ..gi.ambient import AMBIENT
from ..gi.way import NOT_SERVED, WHOLE
from ..kernel import called_kernel, kernel
from ..lights.emitters import BLACK
from ..numba_byref import by_reference
from ..scene.arrays import BY_BOUNCED, BY_CAMERA
from ..shadows.depth_map import texels_per_pixel
from ..surfaces.next_surface import FORKED, NEVER, TINTED
from ..surfaces.preview import BASE
from ..trace.simd import cycles
from ..trace.traverse import NO_HIT
from ..vector import dot, row3, subtract
from .film import CLOCK_ALL, CLOCK_PAIRS, TEXELS
from .forks import EITHER, LOWER, MOST_PANES, REFLECTED, UPPER, key_after, put_start, start_at_pane, start_in
from .memory import ASKED, SELF_HITS, SERVED, Seen, clear_sample, keep_sample, share_tally
from .path import (
    absorb,
    advance,
    apply_limits,
    arrival_from,
    begin_path,
    begin_sample,
    begin_turn,
    begun_at,
    carry_on,
    draw_lobe,
    expected_light,
    first_surface,
    follow_further,
    key_of,
    least_share,
    leave,
    left_by_connections,
    lower_share,
    note_scattering,
    pass_pane,
    reflected_by_pane,
    roulette,
    scatter_on,
    settle,
    surface_met,
    take_share,
)
from .path_light import add_light_looked_up, add_lights_aimed_at, add_lights_met, apply_clamp, end_path, look_up, note_guides
from .path_state import NO_SURFACE, PER_POINT, POINTS, Numbers

MOST_VERTICES = 256


class PathSettings(NamedTuple):
    """A recipe as the kernels read it; offset and reach in metres, bounces as counts.

    every_light: whether all lights are aimed at where the camera looks, or `draws` chosen ones
    clamp: most luminance of a sample's indirect light, 0 for any
    gi_rays, glossy_rays: rays by which a sample's first point scatters, by base and by gloss; 1 and 1: one ray drawn from both
    occlusion_rays, near, reach: rays that look for what is near, up to where that counts wholly, and how far they look
    contrast: how fast what is met counts less between the two
    ambient, ambient_occlusion: level of flat ambient light and strength of its darkening (gi.ambient)
    occlude_direct: share of the direct light that occlusion takes where the camera looks
    caustics: whether caustic photons stand for the light that paths would find through glass and mirrors after a diffuse bounce
    pairs: share of the samples that are taken a second time from the first surface on, for the ledger
    seen_lookup, beyond_lookup, caustics_lookup: addresses of the ways' lookups (`gi.ways.lookup_address`), 0 where paths are traced
    filtering: pixels over which textures are averaged where the camera looks; 0 for never
    gloss_lookup: whether wide gloss takes its light from a way that knows the bounced light of a point
    forks: least share of a sample's light that a way at a fork has if both are followed; 0 for never
    connect: that of the lookup that connects traced paths to light paths, 0 where they are not connected
    """

    seen: int
    beyond: int
    diffuse_bounces: int
    reflections: int
    refractions: int
    total: int
    clamp: float
    offset: float
    every_light: bool
    draws: int
    gi_rays: int
    glossy_rays: int
    occlusion_rays: int
    near: float
    reach: float
    contrast: float
    ambient: float
    ambient_occlusion: float
    occlude_direct: float
    caustics: bool
    pairs: float
    seen_lookup: int
    beyond_lookup: int
    caustics_lookup: int
    connect: int
    filtering: float
    gloss_lookup: bool
    forks: float


@called_kernel
def trace_paths(scene_arrays, path_settings, thread_memory, camera, width, height, box, jobs, seed, cancel, given_rays):
    """Trace samples from the camera and add them to the sums of a tile's pixels in the memory. False when cancelled.

    `box` is (x0, y0, columns) of the tile in a frame of `width` x `height` pixels; `jobs` int64 [n, 2]: which pixel of the tile and
    which of its samples. The first surface may scatter several rays; each is followed as a path of its own (a turn). A sample that
    is paired takes all its turns twice, with other random numbers: two replicates.

    Where `given_rays` float64 [pixels, 6] are given, origin and unit direction, these are followed in place of rays from the camera, as
    rays that a diffuse surface has scattered: what they meet that shines by itself does not count, and depth is the distance.

    (The walk is one function and not one a sample: a function that is called is compiled again into its caller.)
    """
    scene, settings, memory = by_reference(scene_arrays), by_reference(path_settings), by_reference(thread_memory)
    all_begun, slots = cycles(), memory.tally.shape[1]
    for job in range(len(jobs)):
        if cancel[0] != 0:
            return False
        pixel = jobs[job, 0]
        x, y = box[0] + pixel % box[2], box[1] + pixel // box[2]
        sample = begin_sample(settings, camera, given_rays, pixel, x, y, width, height, seed, jobs[job, 1])
        clear_sample(memory)
        first, first_served, first_connected, hit = NO_SURFACE, NOT_SERVED, False, NO_SURFACE.hit
        turn, turns, per_replicate, panes, waiting, forked, replicate_begun = 0, 1, 1, 0, MOST_PANES, 0, cycles()
        while turn < turns:
            branch, replicate = turn % per_replicate, turn // per_replicate
            row, by_pane = memory.found[replicate], branch >= first.branches
            if waiting > MOST_PANES:
                waiting -= 1
                start = start_in(memory.forks[waiting])
            elif by_pane:
                start = start_at_pane(memory.forks[branch - first.branches], key_of(sample, replicate), branch)
            else:
                start = begin_turn(settings, sample, key_of(sample, replicate))
                if replicate > 0 and branch == 0:
                    replicate_begun = cycles()
            ray, carried, state, sent, arrival = start.ray, start.carried, start.state, start.sent, start.arrival
            vertex, way, key, at_first, noted, served, connected = (
                start.vertex, start.way, start.key, start.expected, start.noted, start.served, start.connected,
            )  # fmt: skip
            branch = 0 if by_pane else branch
            begin_path(row)
            turn_begun = cycles()
            while True:
                head = (ray, carried, state, sent, arrival)
                index = sample.number if vertex == 0 else sample.number * first.branches + branch
                numbers = Numbers(key, index, POINTS + vertex * PER_POINT)
                if vertex == 0 and not by_pane and (turn > 0 or way != EITHER):
                    hit = first.hit
                    carried, sent = begun_at(first, carried, sent)
                else:
                    left = hit.triangle if vertex > 0 and way == EITHER else NO_HIT
                    by = BY_CAMERA if vertex == 0 and not sample.gathering else BY_BOUNCED
                    least = least_share(settings, sample, state, sent, way, panes < MOST_PANES if vertex == 0 else waiting < len(memory.forks))
                    hit, ray = advance(scene, memory.stack, numbers, by, ray, least, way)
                    if hit.triangle != NO_HIT and hit.triangle == left and ray.start <= 0.0:
                        memory.found[0, SELF_HITS] += 1.0
                    carried = absorb(carried, ray, hit.distance)
                    if way == EITHER:
                        add_lights_met(scene, settings, memory, replicate, sample, vertex, hit, ray, carried, state, sent, arrival, first)
                    if vertex == 0 and turn == 0 and sample.paired:
                        share_tally(memory)
                    carried = settle(carried)
                    if hit.kind >= TINTED and hit.triangle != NO_HIT:
                        if hit.kind == FORKED:
                            place, forked = panes if vertex == 0 else waiting, forked + 1
                            put_start(memory.forks[place], head, vertex, REFLECTED, key, key_after(key, forked), at_first, noted, served, connected)
                            panes, waiting = (panes + 1, waiting) if vertex == 0 else (panes, waiting + 1)
                            carried, sent = take_share(carried, sent, 1.0 - reflected_by_pane(scene, hit, ray))
                        carried, ray = pass_pane(scene, carried, ray, hit)
                        continue
                    if hit.triangle == NO_HIT or vertex >= MOST_VERTICES:
                        break
                    if way == REFLECTED:
                        carried, sent = take_share(carried, sent, reflected_by_pane(scene, hit, ray))
                        key, numbers, way = start.onward, Numbers(start.onward, index, numbers.dimension), EITHER
                    if state.last and not state.further:
                        goes_on, carried, state = follow_further(numbers, carried, state)
                        if not goes_on:
                            break

                surface = surface_met(scene, settings, sample, vertex, hit, ray, by_pane)
                if arrival.bound > 0.0 and surface.diffuse:
                    goes_on, carried, surface = left_by_connections(numbers, surface, arrival, carried, hit)
                    if not goes_on:
                        break
                if way == EITHER:
                    if vertex == 0 and turn == 0:
                        first = first_surface(scene, settings, memory, sample, numbers, hit, carried, sent, surface)
                    if state.seen and not noted and replicate == 0:
                        noted = note_guides(row, hit, surface, sent.share / first.branches)

                    # Light that has bounced, by the way in use; where that knows all light, no light is aimed at.
                    by_rays, by_photons, caught, served, connected = BLACK, BLACK, BLACK, NOT_SERVED, False
                    if (surface.diffuse or surface.catches) and (branch == 0 if vertex == 0 else (not state.last or state.further)):
                        looking = cycles()
                        by_rays, by_photons, caught, served, connected = look_up(
                            scene, settings, memory, sample, numbers, vertex, hit, ray, state, surface
                        )
                        if surface.diffuse and (settings.seen if state.seen else settings.beyond) > AMBIENT:
                            memory.found[0, ASKED] += 1.0
                            memory.found[0, SERVED] += 1.0 if served != NOT_SERVED else 0.0
                        if vertex == 0:
                            first_served, first_connected = served, connected
                            memory.clock[replicate, slots + BASE] += float(cycles() - looking)
                    elif vertex == 0 and surface.diffuse:
                        served, connected = first_served, first_connected
                    if vertex > 0 or branch == 0:
                        if not (surface.glass and not hit.point.front) and served != WHOLE:
                            add_lights_aimed_at(scene, settings, memory, replicate, sample, numbers, vertex, carried, state, sent, surface, first)
                        add_light_looked_up(
                            scene, settings, memory, replicate, numbers, vertex, carried, state, surface, first, by_rays, by_photons, caught, served
                        )
                        if vertex == 0:
                            turn_begun = cycles()
                    if served == WHOLE:
                        break
                else:
                    key, numbers = start.onward, Numbers(start.onward, index, numbers.dimension)

                drawn, numbers = draw_lobe(settings, sample, numbers, branch, surface, first)
                least = least_share(settings, sample, state, sent, way, waiting < len(memory.forks))
                lower = lower_share(surface, drawn, served) if way != EITHER or least < NEVER else 0.0
                if way == EITHER and min(lower, 1.0 - lower) >= least:
                    way, other, forked = LOWER if lower >= 0.5 else UPPER, UPPER if lower >= 0.5 else LOWER, forked + 1
                    put_start(memory.forks[waiting], head, vertex, other, key, key_after(key, forked), at_first, noted, served, connected)
                    waiting += 1
                way_on, roughness, share = scatter_on(scene, surface, drawn, way, lower)
                if not way_on.leaves:
                    break
                expected = expected_light(scene, carried, surface)
                if at_first <= 0.0:
                    at_first = expected / sent.share
                arrival = arrival_from(scene, surface, way_on, state.seen, connected)
                state = apply_limits(settings, state, surface, way_on, roughness, served)
                carried = carry_on(settings, carried, state.last, surface, way_on, served)
                carried, sent = take_share(carried, note_scattering(sent, vertex, surface, way_on), share)
                goes_on, carried, state = roulette(numbers, carried, state, sent, served, expected / at_first if at_first > 0.0 else 0.0)
                if not goes_on:
                    break
                ray = leave(scene, settings, ray, hit.distance, surface, way_on, roughness)
                vertex, way = vertex + 1, EITHER
            if turn == 0 and (first.hit.triangle != NO_HIT or panes > 0):
                per_replicate = first.branches + panes
                turns = 2 * per_replicate if sample.paired else per_replicate
            if first.hit.triangle != NO_HIT or by_pane:
                memory.clock[replicate, slots + sent.lobe] += float(cycles() - turn_begun)
            end_path(row, state, sent, 1 if by_pane else first.branches, first_served)
            if waiting == MOST_PANES:
                turn += 1
                if turn in (per_replicate, turns):
                    apply_clamp(row, settings.clamp)
        if turns > per_replicate:
            memory.clock[0, slots + CLOCK_PAIRS] += float(cycles() - replicate_begun)
        seen = _seen(camera, sample, first)
        keep_sample(memory, seen, turns > per_replicate, memory.pixels[pixel])
        if len(scene.maps) > 0 and seen.hit > 0.0:
            sums = memory.pixels[pixel]
            pixel_size = 2.0 * camera[4, 0] / width * (1.0 if camera[4, 2] > 0.0 else seen.depth)
            sums[TEXELS] = min(sums[TEXELS], texels_per_pixel(scene, seen.position, pixel_size))
    memory.clock[0, slots + CLOCK_ALL] += float(cycles() - all_begun)
    return True


@kernel
def _seen(camera, sample, first):
    """What the passes keep of the first surface."""
    hit, point = first.hit, first.hit.point
    met = hit.triangle != NO_HIT
    depth = -dot(subtract(point.position, row3(camera, 3, 0)), row3(camera, 2, 0))
    if sample.gathering:
        depth = dot(subtract(point.position, sample.origin), sample.direction)
    triangle = np.int64(hit.triangle) if met else np.int64(-1)
    return Seen(1.0 if met else 0.0, first.albedo, point.normal, point.position, depth, triangle, hit.b1, hit.b2, first.occlusion)
