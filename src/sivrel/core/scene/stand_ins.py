"""Plain stand-ins for surfaces, for lighting: matte, with the mean colour and the emission of the original."""

from dataclasses import replace

import numpy as np

from .model import Colour, Scene, Surface, TextureUse

SHINY = 0.3
"""A glossy surface smoother than this counts as costly."""
CLEAR_OPACITY = 0.1
"""Opacity of the stand-in for glass: about the reflectance of both faces of a pane."""


def mean_colour(plain: Colour, use: TextureUse | None) -> Colour:
    """Mean of a colour that may be textured."""
    if use is None:
        return plain
    texture = use.texture
    mean = texture.texels.mean() * texture.scale + texture.bias
    r, g, b = np.clip(mean[:3], 0.0, 1.0).tolist()
    return r, g, b


def mean_number(plain: float, use: TextureUse | None) -> float:
    """Mean of a number that may be textured."""
    if use is None:
        return plain
    texture, k = use.texture, use.channel
    return float(texture.texels.mean()[k] * texture.scale[k] + texture.bias[k])


def is_costly(surface: Surface) -> bool:
    """Whether a surface costs more than a matte one: glass, coat, metal, gloss, bumps or cut-out."""
    smoothest = surface.roughness if surface.roughness_map is None else 0.0
    glossy = (surface.ior > 1.0 or surface.specular is not None) and smoothest < SHINY
    metal = surface.metallic > 0.0 or surface.metallic_map is not None
    bumpy = surface.normal_map is not None
    return surface.lets_light_pass() or surface.coat > 0.0 or metal or glossy or bumpy


def stand_in(surface: Surface) -> Surface:
    """The plain stand-in for `surface`: its mean colour, its emission, and its mean opacity as a cut-out."""
    base = mean_colour(surface.base_color, surface.base_color_map)
    if surface.specular is not None or surface.specular_map is not None:
        shine = mean_colour(surface.specular or (0.0, 0.0, 0.0), surface.specular_map)
        base = (min(1.0, base[0] + shine[0]), min(1.0, base[1] + shine[1]), min(1.0, base[2] + shine[2]))
    opacity = min(1.0, max(0.0, mean_number(surface.opacity, surface.opacity_map)))
    if surface.see_through != "cut_out":
        base = tuple(o * opacity + a * (1.0 - opacity) for o, a in zip(base, surface.attenuation, strict=True))  # type: ignore[assignment]
        opacity = max(opacity, CLEAR_OPACITY)
    return Surface(
        surface.name, base, ior=1.0, emission=surface.emission, emission_map=surface.emission_map, opacity=opacity,
        displacement=surface.displacement, displacement_map=surface.displacement_map,
    )  # fmt: skip


def with_stand_ins(scene: Scene, which: str) -> tuple[Scene, int]:
    """(`scene` with stand-ins for `which` of its surfaces, “none”, “costly” or “all”, and for all surfaces of the meshes that
    are marked so; the number of used surfaces that were replaced)."""
    surfaces = [stand_in(s) if which == "all" or (which == "costly" and is_costly(s)) else s for s in scene.surfaces]
    worn = {int(s) for surfaces in {id(mesh.surfaces): mesh.surfaces for mesh in scene.meshes}.values() for s in np.unique(surfaces)}
    replaced = {k for k in worn if surfaces[k] is not scene.surfaces[k]}
    meshes = list(scene.meshes)
    chosen: dict[int, int] = {}
    for k, mesh in enumerate(meshes):
        if mesh.stand_in:
            numbers = np.unique(mesh.surfaces)
            for number in numbers.tolist():
                if number not in replaced and number not in chosen:
                    chosen[number] = len(surfaces)
                    surfaces.append(stand_in(scene.surfaces[number]))
            known = np.array([chosen.get(int(number), int(number)) for number in mesh.surfaces], np.uint32)
            meshes[k] = mesh.changed(surfaces=known)
    return replace(scene, surfaces=surfaces, meshes=meshes), len(replaced | set(chosen))
