"""The light path from the eye to the lights, top to bottom.

At every point that a path meets, light that comes straight from the lights is found by aiming at them (next-event
estimation) and by chance (the scattered ray meets a light); see `lights/direct.py`. Light that has bounced is found the
way that the recipe chooses: `seen` where the camera looks, also in mirrors; `beyond` everywhere after.
"""

import math
from typing import NamedTuple

import numpy as np

from ..gi.ambient import AMBIENT, ambient_at
from ..gi.caustics import caustics_at
from ..gi.off import OFF
from ..gi.way import NOT_SERVED, WHOLE, Spot
from ..gi.ways import CAUSTICS, looked_up
from ..kernel import called_kernel, kernel
from ..lights.direct import CAMERA_ORIGIN, THROUGH, Arrival, Shading, glow_met, keep_parts, lights_aimed_at, lights_met, part_of
from ..lights.emitters import BLACK
from ..reference import by_passing_reference, by_reference
from ..scene.arrays import ABSORPTION, BY_BOUNCED, BY_CAMERA, TINT
from ..scene.next_surface import CLEAR, OPAQUE, TINTED, next_surface
from ..scene.surface_at import SurfacePoint, offset_point, surface_at
from ..shadows.depth_map import texels_per_pixel
from ..surfaces.met import scattering_met
from ..surfaces.preview import BASE, GLASS, GLOSS, Look, evaluate_parts, sample_direction
from ..trace.sampler import hash32, pixel_key, sample_1d, sample_2d
from ..trace.simd import cycles
from ..trace.traverse import NO_HIT
from ..vector import add, dot, frame, luminance, multiply, row3, scale, subtract, to_local, to_world
from .film import CLOCK_ALL, CLOCK_PAIRS, TEXELS, PathResult, clear_sample, keep_sample
from .rays import camera_ray, occlusion_at, tent

MIRROR_ROUGHNESS = 0.1
"""What is met in or through a surface smoother than this counts as seen."""

# Dimensions of the random numbers: a block for each point of the path.
PIXEL, PAIRED, POINTS, PER_POINT = 0, 2, 16, 4096
CUTOUT, LOOKUP, OCCLUSION, FURTHER, LOBE, DIRECTION, ROULETTE, CHOICE, BASE_DIRECTION, LIGHTS = 0, 998, 999, 1000, 1024, 1025, 1026, 1027, 1028, 1032
# What ends a path: nothing yet, or a limit of diffuse bounces, of reflections, of glass, or of all.
NOTHING, BY_DIFFUSE, BY_REFLECTIONS, BY_REFRACTIONS, BY_TOTAL = 0, 1, 2, 3, 4
LOOK_FURTHER = 0.03125
"""Share of the paths ended by a limit that are followed on all the same, to measure what the limit leaves out."""
MOST_VERTICES = 256
MOST_SHINE = 0.35
"""Share of gloss above which a point is traced on where all of its light could be looked up."""
LEAST_GLOSS = 1e-4
"""Share of gloss below which a ray that left a point whose base was looked up is not followed."""
# A kind of path in one number: the scatterings as digits from 1 to 3 to base 4, the first one first, at most six; times
# three, plus how its light was found.
AIMED, MET, GLOW = 0, 1, 2
MOST_DIGITS = 1024
NOWHERE = SurfacePoint(BLACK, BLACK, BLACK, False, 0, Look(BLACK, 0.0, 0.0, 1.0, False, BLACK, 0.0, 0.0), BLACK)
"""What stands for the first surface until it is found."""


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


@called_kernel
def trace_paths(scene_arrays, path_settings, thread_memory, camera, width, height, box, jobs, seed, cancel, given_rays):
    """Trace samples from the camera and add them to the sums of a tile's pixels in the memory. False when cancelled.

    `box` is (x0, y0, columns) of the tile in a frame of `width` x `height` pixels; `jobs` int64 [n, 2]: which pixel of the tile and
    which of its samples. The first surface may scatter several rays; each is followed as a path of its own (a turn). A sample that
    is paired takes all its turns twice, with other random numbers, and keeps the second outcome apart.

    Where `given_rays` float64 [pixels, 6] are given, origin and unit direction, these are followed in place of rays from the camera, as
    rays that a diffuse surface has scattered: what they meet that shines by itself does not count, and depth is the distance.

    (The walk is one function and not one a sample: a function that is called is compiled again into its caller.)
    """
    scene, settings, memory = by_reference(scene_arrays), by_reference(path_settings), by_reference(thread_memory)
    all_begun = cycles()
    for job in range(len(jobs)):
        if cancel[0] != 0:
            return False
        sums, sample = memory.pixels[jobs[job, 0]], jobs[job, 1]
        pixel_x, pixel_y = box[0] + jobs[job, 0] % box[2], box[1] + jobs[job, 0] // box[2]
        key = pixel_key(seed, pixel_y * width + pixel_x)
        u, v = sample_2d(key, sample, PIXEL)
        film_x = (pixel_x + 0.5 + tent(u)) / width * 2.0 - 1.0
        film_y = 1.0 - (pixel_y + 0.5 + tent(v)) / height * 2.0
        gathering = len(given_rays) > 0
        if gathering:
            row = jobs[job, 0]
            origin = (given_rays[row, 0], given_rays[row, 1], given_rays[row, 2])
            direction = (given_rays[row, 3], given_rays[row, 4], given_rays[row, 5])
        else:
            origin, direction = camera_ray(camera, film_x, film_y, key, sample)
        clear_sample(memory)

        paired = sample_1d(key, sample, PAIRED) < settings.pairs
        turns, branches, gloss_branches, turn = 1, 1, 0, 0
        met_by_camera, direct, direct_kept = BLACK, BLACK, BLACK
        # Indirect light by what scattered it first, and of the first time of a pair.
        by_base, by_gloss, by_glass = BLACK, BLACK, BLACK
        base_kept, gloss_kept, glass_kept = BLACK, BLACK, BLACK
        clamped, clamped_kept, brightest, brightest_kind = 0.0, 0.0, 0.0, 0
        left_diffuse, left_mirror, left_glass, left_total, ended_in_glass, self_hits = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        hit_any, albedo, occlusion, let_through = 0.0, BLACK, 0.0, 1.0
        asked, served = 0.0, 0.0
        ray_origin, d, hit, b1, b2, kind = origin, direction, NO_HIT, np.float32(0.0), np.float32(0.0), OPAQUE
        first_hit, first_b1, first_b2, first_kind, first_here = hit, b1, b2, kind, NOT_SERVED
        point = first = NOWHERE
        first_throughput = (1.0, 1.0, 1.0)
        distance, begun = 0.0, cycles()
        turn_begun = begun
        while turn < turns:
            branch, again = turn % branches, turn >= branches
            if again and branch == 0:
                # The first time is over: what it found is put aside, and what the camera ray met counts for both.
                direct_kept, direct = direct, BLACK
                base_kept, gloss_kept, glass_kept = by_base, by_gloss, by_glass
                by_base, by_gloss, by_glass = BLACK, BLACK, BLACK
                _swap(memory)
                begun = cycles()
            path_key = hash32(key ^ np.uint32(0x5BD1E995)) if again else key
            throughput, gloss_share, lobe = (1.0, 1.0, 1.0), BLACK, BASE
            arrival = Arrival(origin, (0.0, 0.0, 1.0), CAMERA_ORIGIN, 0.0, BLACK, True)
            diffuse_bounces, reflections, refractions = 1 if gathering else 0, 0, 0
            seen, last, ended_by, further = not gathering, False, NOTHING, False
            # What of the path is no caustic, should it find a light now; and whether its last surface scatters nothing diffusely.
            no_caustic, mirrored = BLACK if gathering and settings.caustics else (1.0, 1.0, 1.0), False
            beyond, raised, code = 0.0, 1.0, 0
            start, layer, absorption, lifted = 0.0, 0, BLACK, 0.0
            found, pending = BLACK, (1.0, 1.0, 1.0)
            vertex = 0
            turn_begun = cycles()
            while True:
                dimension = POINTS + vertex * PER_POINT
                index = sample if vertex == 0 else sample * branches + branch
                near = vertex <= 1 and not gathering
                if vertex > 0 or turn == 0:
                    by = BY_CAMERA if vertex == 0 and not gathering else BY_BOUNCED
                    left_triangle = hit if vertex > 0 else NO_HIT
                    hit, distance, b1, b2, kind, layer = next_surface(
                        scene, memory.stack, by, path_key, index, dimension + CUTOUT, layer, ray_origin, d, start,
                    )  # fmt: skip
                    if hit != NO_HIT and hit == left_triangle and start <= 0.0:
                        self_hits += 1.0
                    if absorption[0] + absorption[1] + absorption[2] > 0.0:
                        stretch = distance - start + lifted
                        throughput = multiply(
                            throughput, (math.exp(-absorption[0] * stretch), math.exp(-absorption[1] * stretch), math.exp(-absorption[2] * stretch))
                        )
                    # Light met straight after the first scattering is direct light: what occlusion takes of that, it takes here too.
                    lit = scale(throughput, let_through) if vertex == 1 else throughput
                    met = lights_met(scene, settings, memory, arrival, ray_origin, d, start, distance, lit, near)
                    glow = BLACK
                    if hit != NO_HIT and kind != TINTED:
                        point = surface_at(scene, hit, b1, b2, d)
                        glow = glow_met(scene, settings, memory, arrival, hit, point, d, distance, lit, near)
                    if vertex > 0 and not further:
                        bright = luminance(met)
                        if bright > brightest and not again:
                            brightest, brightest_kind = bright, code * 3 + MET
                        bright = luminance(glow)
                        if bright > brightest and not again:
                            brightest, brightest_kind = bright, code * 3 + GLOW
                    met = add(met, glow)
                    if mirrored:
                        met = multiply(met, no_caustic)
                    if further:
                        beyond += luminance(met)
                    elif vertex == 0:
                        if not gathering:
                            met_by_camera = add(met_by_camera, met)
                    elif vertex == 1:
                        direct = add(direct, met)
                        keep_parts(memory.parts, lobe == GLASS, gloss_share, met)
                    else:
                        found = add(found, met)
                    throughput, pending = multiply(throughput, pending), (1.0, 1.0, 1.0)
                    if kind == TINTED and hit != NO_HIT:
                        throughput = multiply(throughput, row3(scene.surfaces, np.int64(scene.surface_of[hit]), TINT))
                        start, lifted = distance + scene.offset, 0.0
                        continue
                    if hit == NO_HIT or vertex >= MOST_VERTICES:
                        break
                    if last and not further:
                        # The path ends here; a few are followed on, raised by how few they are, to measure what lies beyond.
                        if ended_by == NOTHING or sample_1d(path_key, index, dimension + FURTHER) >= LOOK_FURTHER:
                            break
                        further = True
                        throughput = scale(throughput, 1.0 / LOOK_FURTHER)
                else:
                    hit, b1, b2, kind, point, throughput = first_hit, first_b1, first_b2, first_kind, first, first_throughput

                x, y = frame(point.normal)
                wo = to_local(x, y, point.normal, scale(d if vertex > 0 else direction, -1.0))
                split = vertex == 0 and not gathering and (settings.gi_rays > 1 or settings.glossy_rays > 1)
                base_rays, gloss_rays = float(settings.gi_rays) if split else 0.0, float(settings.glossy_rays) if split else 0.0
                glass, scattering = scattering_met(scene, kind, point, base_rays, gloss_rays, wo[2])
                row = np.int64(scene.object_of[hit])
                diffuse = not glass and luminance(scattering.diffuse) > 0.0
                if vertex == 0 and turn == 0:
                    hit_any, first, first_hit, first_b1, first_b2, first_kind = 1.0, point, hit, b1, b2, kind
                    first_throughput = throughput
                    albedo = (1.0, 1.0, 1.0) if kind == CLEAR else point.look.base
                    if gathering:
                        albedo = scale(scattering.diffuse, scattering.left_o * scattering.coat_left_o)
                    occlusion = occlusion_at(scene, settings, memory.stack, key, sample, dimension + OCCLUSION, point, x, y)
                    let_through = 1.0 - settings.occlude_direct * (1.0 - occlusion)
                    if split:
                        shiny = scattering.gloss_chance + scattering.coat_chance > 0.0
                        gloss_branches = settings.glossy_rays if glass or shiny else 0
                        branches = gloss_branches + (0 if glass else settings.gi_rays)
                    turns = 2 * branches if paired else branches
                    if paired:
                        for slot in range(len(memory.tally)):
                            for c in range(memory.tally.shape[1]):
                                memory.again[slot, c] = memory.tally[slot, c]

                # Light that has bounced, by the way in use; where that knows all light, no light is aimed at.
                way, here = settings.seen if seen else settings.beyond, NOT_SERVED
                counts = (vertex > 0 or branch == 0) and diffuse and (vertex == 0 or not last or further)
                by_rays, by_photons = BLACK, BLACK
                if counts:
                    looking = cycles()
                    spot = Spot(
                        point.position, point.geometric_normal, point.normal, point.look, hit, b1, b2,
                        distance if vertex > 0 or gathering else math.inf, seen, path_key, index, dimension + LOOKUP,
                    )  # fmt: skip
                    by_rays, here = looked_up(way, scene.prepared, scene, memory, spot)
                    if here == WHOLE and scattering.gloss_chance + scattering.coat_chance > MOST_SHINE:
                        by_rays, here = BLACK, NOT_SERVED
                    if settings.caustics:
                        by_photons = caustics_at(
                            scene, memory.stack, scene.prepared[CAUSTICS], memory.near, sample, point.position, point.geometric_normal
                        )  # fmt: skip
                    if way > AMBIENT:
                        asked += 1.0
                        served += 1.0 if here != NOT_SERVED else 0.0
                    if vertex == 0:
                        first_here = here
                        memory.clock[len(memory.tally) + BASE] += float(cycles() - looking)
                elif vertex == 0 and diffuse:
                    here = first_here

                if vertex > 0 or branch == 0:
                    if not (glass and not point.front) and here != WHOLE:
                        shading = by_passing_reference(Shading(point, row, scattering, x, y, wo))
                        aimed = lights_aimed_at(
                            scene, settings, memory, path_key, index, dimension + CHOICE, dimension + LIGHTS, shading,
                            scale(throughput, let_through) if vertex == 0 else throughput, seen, vertex == 0,
                        )  # fmt: skip
                        if (vertex > 0 or gathering) and not diffuse:
                            aimed = multiply(aimed, no_caustic)
                        if further:
                            beyond += luminance(aimed)
                        else:
                            bright = luminance(aimed)
                            if bright > brightest and not again:
                                brightest, brightest_kind = bright, code * 3 + AIMED
                            if vertex == 0:
                                direct = add(direct, aimed)
                            else:
                                found = add(found, aimed)
                    reflected = scale(scattering.diffuse, scattering.left_o * scattering.coat_left_o)
                    if here == WHOLE:
                        # The path ends here: gloss sends on what it reflects as the base does, too.
                        plain = luminance(reflected) + scattering.coat_left_o * scattering.escape_o * luminance(scattering.many)
                        shine = plain / (1.0 - scattering.gloss_chance - scattering.coat_chance) - plain
                        reflected = add(reflected, scale(scattering.many, scattering.escape_o * scattering.coat_left_o))
                        reflected = add(reflected, (shine, shine, shine))
                    light = multiply(reflected, scale(add(by_rays, by_photons), 1.0 / math.pi))
                    if settings.seen == AMBIENT and seen and not glass:
                        near_share = occlusion
                        if vertex > 0:
                            near_share = occlusion_at(scene, settings, memory.stack, path_key, index, dimension + OCCLUSION, point, x, y)
                        light = add(light, ambient_at(settings, scattering, near_share))
                    light = multiply(throughput, light)
                    if further:
                        beyond += luminance(light)
                    elif vertex == 0:
                        by_base = add(by_base, light)
                    else:
                        found = add(found, light)
                    if vertex == 0:
                        turn_begun = cycles()
                if here == WHOLE:
                    break

                by_base_branch = split and branch >= gloss_branches
                if split:
                    own = settings.gi_rays if by_base_branch else settings.glossy_rays
                    index = sample * own + (branch - gloss_branches if by_base_branch else branch)
                choice = sample_1d(path_key, index, dimension + LOBE)
                u, v = sample_2d(path_key, index, dimension + (BASE_DIRECTION if by_base_branch else DIRECTION))
                if split and not glass:
                    choice = 1.0 if by_base_branch else choice * (scattering.gloss_chance + scattering.coat_chance)
                wi, lobe_here = sample_direction(scattering, wo, choice, u, v)
                through = wi[2] < 0.0
                base, gloss, density = evaluate_parts(scattering, wo, wi)
                d = to_world(x, y, point.normal, wi)
                side = dot(d, point.geometric_normal)
                if density <= 0.0 or side == 0.0 or (side < 0.0) != through or (through and not glass):
                    break
                value = add(base, gloss)
                throughput = multiply(throughput, scale(value, 1.0 / density))
                lobe_roughness = point.look.coat_roughness if lobe_here == GLOSS and choice < scattering.coat_chance else point.look.roughness

                specular = seen and lobe_here != BASE and lobe_roughness < MIRROR_ROUGHNESS
                if lobe_here == BASE:
                    diffuse_bounces += 1
                elif glass and (through or not point.front):
                    refractions += 1
                else:
                    reflections += 1
                # The scattered ray is followed once more even where bouncing ends: it may meet a light (direct light by chance).
                if not last:
                    if way in (OFF, AMBIENT) and not specular:
                        last = True
                    elif diffuse_bounces > settings.diffuse_bounces:
                        last, ended_by = True, BY_DIFFUSE
                    elif reflections > settings.reflections:
                        last, ended_by = True, BY_REFLECTIONS
                    elif refractions > settings.refractions:
                        last, ended_by = True, BY_REFRACTIONS
                    elif diffuse_bounces + reflections + refractions > settings.total:
                        last, ended_by = True, BY_TOTAL
                alone = glass and (through or not point.front)
                share = part_of(gloss, value)
                arrival = Arrival(point.position, point.normal, row, THROUGH if alone else density, share, seen)
                if here != NOT_SERVED:
                    # What the base scatters has been looked up, all but the light that this ray itself may meet.
                    pending = share
                    last = last or max(share[0], share[1], share[2]) < LEAST_GLOSS
                if settings.caustics and diffuse:
                    no_caustic = (1.0, 1.0, 1.0) if here != NOT_SERVED or last else share
                mirrored = not diffuse
                seen = specular
                if code < MOST_DIGITS:
                    code = code * 4 + lobe_here + 1
                if vertex == 0:
                    lobe, gloss_share = lobe_here, share
                    raised = (scattering.base_rays if lobe == BASE else scattering.gloss_rays + scattering.coat_rays) if split else 1.0
                if through:
                    absorption = row3(scene.surfaces, point.surface, ABSORPTION) if point.front else BLACK
                if not last or further:
                    # Russian roulette from the first bounce on: on a whitewashed room it gives a third less noise in equal time
                    # than from the fourth. What survives is raised, so nothing is lost on average (Arvo & Kirk 1990).
                    weight = raised * LOOK_FURTHER if further else raised
                    kept = multiply(throughput, pending)
                    survival = min(1.0, weight * max(kept[0], kept[1], kept[2]))
                    survives = sample_1d(path_key, index, dimension + ROULETTE) < survival
                    if here != NOT_SERVED and not further:
                        # The light that this ray itself may meet is all of it: what is thinned and raised is what comes after alone.
                        last = not survives
                        pending = scale(pending, 1.0 / survival) if survives else BLACK
                    elif survives:
                        throughput = scale(throughput, 1.0 / survival)
                    else:
                        break
                ray_origin, start, layer = offset_point(point, d, settings.offset), 0.0, 0
                lifted = settings.offset / max(abs(side), 0.1)  # the stretch that the ray spares by starting off the surface
                vertex += 1
            if hit_any > 0.0:
                memory.clock[len(memory.tally) + lobe] += float(cycles() - turn_begun)
            if lobe == GLASS:
                by_glass = add(by_glass, found)
            else:
                gloss_part = multiply(gloss_share, found)
                by_gloss = add(by_gloss, gloss_part)
                by_base = add(by_base, add(found, scale(gloss_part, -1.0)))
            if not again:
                left_diffuse += beyond if ended_by == BY_DIFFUSE else 0.0
                left_mirror += beyond if ended_by == BY_REFLECTIONS else 0.0
                left_glass += beyond if ended_by == BY_REFRACTIONS else 0.0
                left_total += beyond if ended_by == BY_TOTAL else 0.0
                ended_in_glass += (1.0 if ended_by == BY_REFRACTIONS else 0.0) / branches
            turn += 1
            if turn in (branches, turns):
                bright = luminance(by_base) + luminance(by_gloss) + luminance(by_glass)
                clamped = 0.0
                if settings.clamp > 0.0 and bright > settings.clamp:
                    clamped = bright - settings.clamp
                    by_base, by_gloss, by_glass = (
                        scale(by_base, settings.clamp / bright), scale(by_gloss, settings.clamp / bright), scale(by_glass, settings.clamp / bright),
                    )  # fmt: skip
                if turn == branches:
                    clamped_kept = clamped
        bounced_again, total_again = (0.0, 0.0, 0.0), 0.0
        paired = turns > branches
        if paired:
            bounced_again = (luminance(by_base), luminance(by_gloss), luminance(by_glass))
            total_again = luminance(direct) + bounced_again[0] + bounced_again[1] + bounced_again[2]
            direct, by_base, by_gloss, by_glass = direct_kept, base_kept, gloss_kept, glass_kept
            _swap(memory)
            memory.clock[len(memory.tally) + CLOCK_PAIRS] += float(cycles() - begun)
        bounced = (luminance(by_base), luminance(by_gloss), luminance(by_glass))
        total = luminance(direct) + bounced[0] + bounced[1] + bounced[2]
        for c in range(3):
            memory.parts[BASE, c] += by_base[c]
            memory.parts[GLOSS, c] += by_gloss[c]
            memory.parts[GLASS, c] += by_glass[c]
        indirect = add(add(by_base, by_gloss), by_glass)
        triangle = np.int64(first_hit) if hit_any > 0.0 else np.int64(-1)
        depth = -dot(subtract(first.position, row3(camera, 3, 0)), row3(camera, 2, 0))
        if gathering:
            depth = dot(subtract(first.position, origin), direction)
        path = PathResult(
            add(met_by_camera, direct), indirect, hit_any, albedo, first.normal, first.position, depth, triangle, first_b1, first_b2,
            bounced, total, paired, bounced_again, total_again, clamped_kept, (left_diffuse, left_mirror, left_glass, left_total),
            ended_in_glass, self_hits, occlusion, brightest, brightest_kind, asked, served,
        )  # fmt: skip
        keep_sample(memory, path, sums)
        if len(scene.maps) > 0 and path.hit > 0.0:
            pixel_size = 2.0 * camera[4, 0] / width * (1.0 if camera[4, 2] > 0.0 else depth)
            sums[TEXELS] = min(sums[TEXELS], texels_per_pixel(scene, path.position, pixel_size))
    memory.clock[len(memory.tally) + CLOCK_ALL] += float(cycles() - all_begun)
    return True


@kernel
def _swap(memory):
    """Put what has been tallied, parted and timed aside, or back."""
    for slot in range(len(memory.tally)):
        for c in range(memory.tally.shape[1]):
            memory.tally[slot, c], memory.again[slot, c] = memory.again[slot, c], memory.tally[slot, c]
    for part in range(3):
        for c in range(3):
            memory.parts[part, c], memory.parts_again[part, c] = memory.parts_again[part, c], memory.parts[part, c]
    for k in range(len(memory.clock)):
        memory.clock[k], memory.clock_again[k] = memory.clock_again[k], memory.clock[k]
