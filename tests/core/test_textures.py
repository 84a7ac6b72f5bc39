"""Textures: levels, coding, colour spaces, files of large ones, and what filtering by the width of rays does to pictures."""

import io
import os
import struct
import tempfile
import unittest
from unittest.mock import patch

import numpy as np
from PIL import Image

from sivrel.core.errors import InputError
from sivrel.core.formats import texture_files
from sivrel.core.formats.colour_spaces import encoding_of
from sivrel.core.formats.image import read_image, read_texels
from sivrel.core.pack.geometry import pack_scene
from sivrel.core.pack.texture_memory import drop_above, mapped_parts
from sivrel.core.scene.model import Camera, Light, Scene, Surface, Texture, TextureUse
from sivrel.core.scene.texels import HALF, LINEAR, RAW, SRGB, TileSet, texels_of
from sivrel.core.scene.textures import FINEST, look_up, look_up_colour
from sivrel.shot import Shot
from tests.scenes import floor


def png(pixels: np.ndarray) -> bytes:
    held = io.BytesIO()
    Image.fromarray(pixels).save(held, "PNG", compress_level=1)
    return held.getvalue()


class Levels(unittest.TestCase):
    def test_every_level_has_the_mean_of_the_image(self):
        random = np.random.default_rng(1)
        for rows, columns, channels in ((16, 16, 3), (13, 7, 4), (9, 1, 1), (6, 11, 2)):
            floats = random.normal(size=(rows, columns, channels)).astype(np.float32)
            coded = random.integers(0, 256, (rows, columns, channels), np.uint8)
            for made, tolerance in (
                (texels_of(floats), 1e-5),
                (texels_of(floats.astype(np.float16).astype(np.float32)), 2e-3),
                (texels_of(coded, SRGB), 6e-3),
                (texels_of(coded.astype(np.uint16) * 257, RAW), 1e-4),
            ):
                self.assertEqual(made.levels[-1].shape, (1, 1, channels))
                whole = made.linear().reshape(-1, 4).mean(axis=0)
                for level in range(len(made.levels)):
                    np.testing.assert_allclose(made.linear(level).reshape(-1, 4).mean(axis=0), whole, atol=tolerance)
                np.testing.assert_allclose(made.mean(), whole, atol=tolerance)
                bright = np.maximum(made.linear()[..., :3], 0.0) @ (0.2126, 0.7152, 0.0722)
                self.assertGreaterEqual(made.brightest + 1e-4, float(bright.max()))

    def test_numbers_that_halves_hold_are_stored_as_halves(self):
        exact = np.array([[[0.5, -2.0, 1024.0]]], np.float32)
        self.assertEqual(texels_of(exact).coding, HALF)
        np.testing.assert_array_equal(texels_of(exact).linear()[0, 0, :3], exact[0, 0])
        for other in (exact + np.float32(0.1), exact * np.float32(1e6)):
            self.assertEqual(texels_of(other).coding, LINEAR)
            np.testing.assert_array_equal(texels_of(other).linear()[0, 0, :3], other[0, 0])

    def arrays(self, texels, **more):
        return pack_scene(Scene("t", [floor()], [Surface(base_color_map=TextureUse(Texture(texels, **more)))]))

    def test_a_width_looks_up_the_mean_over_it(self):
        board = np.indices((64, 64)).sum(axis=0) % 2 * 255
        arrays = self.arrays(texels_of(np.stack([board, 255 - board, board], axis=2).astype(np.uint8), RAW))
        # Between texel middles the finest level is even; at them it is one of the two.
        self.assertAlmostEqual(look_up(arrays, 0, 0, 0.5 / 64, 1.0 - 1.5 / 64, FINEST), 1.0)
        for width in (2.0 / 64, 0.3, 1.0, 50.0):
            for u, v in ((0.5 / 64, 0.5 / 64), (0.77, 0.21)):
                self.assertAlmostEqual(look_up(arrays, 0, 0, u, v, float(np.log2(width))), 0.5, delta=0.005)
        # Half-way between two levels both count alike.
        half = look_up(arrays, 0, 0, 0.5 / 64, 1.0 - 1.5 / 64, -6.0 + 0.5)
        self.assertAlmostEqual(half, 0.75, delta=0.005)

    def test_a_transform_that_repeats_makes_widths_cover_more_texels(self):
        ramp = np.repeat(np.arange(64, dtype=np.uint8)[None] * 4, 64, axis=0)[..., None]
        arrays = self.arrays(texels_of(ramp, RAW), transform=np.array([[4.0, 0, 0], [0, 4.0, 0]]))
        self.assertAlmostEqual(look_up(arrays, 0, 0, 0.1, 0.1, np.log2(0.25)), float(ramp.mean()) / 255.0, delta=0.01)

    def test_grey_and_alpha(self):
        grey = self.arrays(texels_of(np.full((2, 2, 2), (51, 102), np.uint8), RAW))
        for texels in (texels_of(np.full((2, 2, 2), (51, 102), np.uint8), SRGB), texels_of(np.random.default_rng(4).random((3, 2, 3), np.float32))):
            for channel in range(4):
                np.testing.assert_array_equal(texels.plane(channel), texels.linear()[..., channel])
        np.testing.assert_allclose([look_up(grey, 0, c, 0.5, 0.5, FINEST) for c in range(4)], [0.2, 0.2, 0.2, 0.4], atol=1e-6)
        coded = self.arrays(texels_of(np.full((2, 2, 4), (188, 188, 188, 128), np.uint8), SRGB))
        np.testing.assert_allclose(look_up_colour(coded, 0, 0.5, 0.5, FINEST), 0.5029, atol=1e-4)
        self.assertAlmostEqual(look_up(coded, 0, 3, 0.5, 0.5, FINEST), 128 / 255.0, places=5)
        self.assertEqual(look_up(self.arrays(texels_of(np.full((2, 2, 3), 9, np.uint8), RAW)), 0, 3, 0.5, 0.5, FINEST), 1.0)

    def test_tiles_have_levels_of_their_own(self):
        tiles = {(0, 0): texels_of(np.full((8, 8, 3), 51, np.uint8), RAW), (1, 2): texels_of(np.full((64, 64, 3), 102, np.uint8), RAW)}
        arrays = self.arrays(TileSet(tiles), wrap=("black", "black"))
        for size in (FINEST, -2.0, 3.0):
            for (u, v), expected in {(0.99, 0.01): 0.2, (1.01, 2.5): 0.4, (1.5, 0.5): 0.0, (-0.1, 0.5): 0.0, (0.5, 3.1): 0.0}.items():
                self.assertAlmostEqual(look_up(arrays, 0, 0, u, v, size), expected, places=5)
        np.testing.assert_allclose(TileSet(tiles).mean()[:3], 0.3, atol=1e-6)


class Files(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        change = patch.dict(os.environ, {"XDG_CACHE_HOME": folder.name})
        change.start()
        self.addCleanup(change.stop)

    def picture(self, seed=1, side=2048):
        random = np.random.default_rng(seed)
        return np.asarray(Image.fromarray(random.integers(0, 256, (64, 64, 3), np.uint8)).resize((side, side), Image.Resampling.BICUBIC))

    def test_deep_pictures_keep_their_bits(self):
        import av

        coded = np.random.default_rng(3).integers(0, 65536, (5, 7, 3)).astype(np.uint16)
        frame = av.VideoFrame.from_ndarray(coded, format="rgb48le").reformat(format="rgb48be")
        coder = av.CodecContext.create("png", "w")
        coder.width, coder.height, coder.pix_fmt = 7, 5, "rgb48be"
        coder.time_base = 1
        data = b"".join(bytes(packet) for packet in [*coder.encode(frame), *coder.encode(None)])
        texels = read_texels(data, "deep.png")
        np.testing.assert_array_equal(texels.levels[0], coded)
        np.testing.assert_allclose(read_image(data, "deep.png")[..., :3], coded / 65535.0, atol=1e-6)
        with self.assertRaises(InputError):
            read_texels(data[: len(data) // 2], "deep.png")

    def test_colour_spaces_by_name(self):
        self.assertEqual(
            [encoding_of(name) for name in ("", "auto", "srgb_texture", "lin_rec709", "Raw", "lin_ap1")], ["auto", "auto", SRGB, RAW, RAW, "ACEScg"]
        )
        self.assertEqual(encoding_of("", "raw"), "raw")
        with self.assertRaisesRegex(InputError, "Did you mean “ACEScg”"):
            encoding_of("ACEScgg")
        grey = png(np.full((2, 2, 3), 188, np.uint8))
        np.testing.assert_allclose(read_image(grey, "g.png", "sRGB Encoded Rec.709 (sRGB)")[..., :3], 0.5029, atol=1e-3)
        # AP1 to Rec.709 with D65 (ACES TB-2014-004): white stays white, and pure red leaves Rec.709.
        red = read_image(png(np.full((2, 2, 3), (255, 0, 0), np.uint8)), "r.png", "ACEScg")[0, 0, :3]
        np.testing.assert_allclose(red, (1.705, -0.130, -0.024), atol=0.002)
        np.testing.assert_allclose(read_image(png(np.full((2, 2, 3), 255, np.uint8)), "w.png", "ACEScg")[0, 0, :3], 1.0, atol=1e-3)

    def test_large_ones_are_decoded_once_and_mapped(self):
        data = png(self.picture())
        first, again = read_texels(data, "big.png"), read_texels(data, "big.png")
        self.assertIsNotNone(first.file)
        self.assertEqual((first.digest, first.brightest, len(first.levels)), (again.digest, again.brightest, 12))
        plain = texels_of(self.picture(), SRGB)
        for one, other in zip(again.levels, plain.levels, strict=True):
            np.testing.assert_array_equal(one, other)
        self.assertNotEqual(read_texels(data, "big.png", "raw").digest, first.digest)
        # The same values from the mapping as from memory, and less of it is in memory than a copy takes.
        mapped, copied = (pack_scene(Scene("t", [floor()], [Surface(base_color_map=TextureUse(Texture(t)))])) for t in (again, plain))
        for u, v, size in np.random.default_rng(2).uniform((0, 0, -12), (1, 1, 0), (50, 3)):
            self.assertEqual(look_up_colour(mapped, 0, u, v, size), look_up_colour(copied, 0, u, v, size))
        if parts := mapped_parts(mapped.pictures.bytes):
            self.assertEqual(len(parts), 1)
            self.assertGreater(parts[0].resident, 0)
            self.assertEqual(drop_above(mapped.pictures.bytes, 1), parts[0].resident)
            self.assertEqual(sum(part.resident for part in mapped_parts(mapped.pictures.bytes)), 0)
            self.assertEqual(look_up_colour(mapped, 0, 0.3, 0.3, FINEST), look_up_colour(copied, 0, 0.3, 0.3, FINEST))

    def test_a_damaged_file_is_made_again_and_the_oldest_make_room(self):
        data = png(self.picture())
        path = read_texels(data, "big.png").file
        for damage in (b"", path.read_bytes()[:-40], b"\0" * 5000):
            path.write_bytes(damage)
            self.assertIsNone(texture_files.stored(path.stem))
            self.assertFalse(path.exists())
            self.assertEqual(read_texels(data, "big.png").file, path)
        os.utime(path, (1.0, 1.0))
        with patch.object(texture_files, "MOST_BYTES", path.stat().st_size + 1000):
            other = read_texels(png(self.picture(2)), "other.png").file
            self.assertEqual((path.exists(), other.exists()), (False, True))
        with patch.object(texture_files, "MOST_BYTES", 1000):  # no room at all: it stays in memory
            self.assertIsNone(read_texels(png(self.picture(3)), "third.png").file)


def mipmapped_exr(picture: np.ndarray, tile: int = 16) -> bytes:
    """An OpenEXR file of half floats in tiles, uncompressed, with levels of half the size down to one pixel, all of which are bright ("OpenEXR File
    Layout", tiled images)."""

    def attribute(name: str, kind: str, data: bytes) -> bytes:
        return name.encode() + b"\0" + kind.encode() + b"\0" + struct.pack("<i", len(data)) + data

    window = struct.pack("<4i", 0, 0, picture.shape[1] - 1, picture.shape[0] - 1)
    channels = b"".join(c.encode() + b"\0" + struct.pack("<iB3xii", 1, 0, 1, 1) for c in "BGR") + b"\0"
    header = struct.pack("<ii", 20000630, 2 | 0x200) + attribute("channels", "chlist", channels) + attribute("compression", "compression", b"\0")
    header += attribute("dataWindow", "box2i", window) + attribute("displayWindow", "box2i", window) + attribute("lineOrder", "lineOrder", b"\0")
    header += attribute("pixelAspectRatio", "float", struct.pack("<f", 1.0)) + attribute("screenWindowCenter", "v2f", struct.pack("<2f", 0, 0))
    header += (
        attribute("screenWindowWidth", "float", struct.pack("<f", 1.0)) + attribute("tiles", "tiledesc", struct.pack("<IIB", tile, tile, 1)) + b"\0"
    )
    chunks, level, image = [], 0, picture
    while True:
        for y, x in np.ndindex(-(-image.shape[0] // tile), -(-image.shape[1] // tile)):
            part = image[y * tile : (y + 1) * tile, x * tile : (x + 1) * tile, ::-1].astype("<f2")
            data = part.transpose(0, 2, 1).tobytes()
            chunks.append(struct.pack("<5i", x, y, level, level, len(data)) + data)
        if image.shape[:2] == (1, 1):
            break
        level, image = level + 1, np.full((max(1, image.shape[0] // 2), max(1, image.shape[1] // 2), 3), 1000.0)
    starts = len(header) + 8 * len(chunks) + np.cumsum([0, *(len(chunk) for chunk in chunks[:-1])])
    return header + starts.astype("<u8").tobytes() + b"".join(chunks)


class LevelsInFiles(unittest.TestCase):
    def test_of_a_mipmapped_exr_the_finest_level_is_read(self):
        picture = np.random.default_rng(1).random((40, 52, 3))
        read = read_texels(mipmapped_exr(picture), "wall.exr").linear()
        np.testing.assert_array_equal(read[..., :3], picture.astype(np.float16))


class Filtering(unittest.TestCase):
    """A checkered floor under an even sky, seen at a slant, so that far squares are smaller than pixels."""

    def shot(self, look: Surface, lamp: Light) -> Shot:
        ground = floor(40.0)
        ground = ground.changed(uvs=ground.vertices[..., :2] / 80.0 + 0.5)
        eye = Camera("eye", np.array([[1.0, 0, 0, 0.0], [0, 0.28, -0.96, -12.0], [0, 0.96, 0.28, 3.0]]), half_width=0.4)
        return Shot(Scene("board", [ground], [look], [lamp], [eye]))

    def use(self, coded: np.ndarray, repeats: float, **more) -> TextureUse:
        return TextureUse(Texture(texels_of(coded.astype(np.uint8), RAW), transform=np.array([[repeats, 0, 0], [0, repeats, 0]]), **more))

    def test_the_light_is_the_same_and_the_grain_less(self):
        board = np.kron(np.indices((64, 64)).sum(axis=0) % 2, np.ones((2, 2))) * 204
        look = Surface("board", ior=1.0, base_color_map=self.use(np.repeat(board[..., None], 3, axis=2), 8.0))
        found = {}
        for filtering in (0.0, 0.5, 1.0):
            values = {"sampling.min": 64, "sampling.max": 64, "surfaces.filtering": filtering, "lights.seen": "all"}
            picture = self.shot(look, Light("Sky", "dome", (1.0, 1.0, 1.0))).render(values, size=(64, 36)).picture
            found[filtering] = picture.beauty[..., 0].astype(float), picture.passes["variance"].astype(float).mean()
        ground = found[0.0][0][24:]
        for filtering in (0.5, 1.0):
            self.assertAlmostEqual(found[filtering][0][24:].mean() / ground.mean(), 1.0, delta=0.01)
        # The sky gives a matte floor its albedo, 0.4 on the mean.
        self.assertAlmostEqual(float(found[1.0][0][24:].mean()), 0.4, delta=0.012)
        self.assertLess(found[1.0][1], found[0.0][1])

    def test_bumps_smaller_than_pixels_make_metal_rough(self):
        slopes = np.random.default_rng(5).normal(0.0, 0.25, (256, 256, 2))
        normals = np.dstack([slopes, np.ones((256, 256))])
        normals /= np.linalg.norm(normals, axis=2, keepdims=True)
        bumps = self.use(np.round((normals * 0.5 + 0.5) * 255.0), 30.0, scale=(2.0,) * 4, bias=(-1.0,) * 4)
        tilted = np.array([[1.0, 0, 0], [0, 0.5, -0.866], [0, 0.866, 0.5]])
        lamp = Light("Lamp", "rect", (100.0,) * 3, (0.0, 20.0, 12.0), tilted, width=6.0, height=6.0)
        look = Surface("metal", (0.8,) * 3, roughness=0.2, metallic=1.0, normal_map=bumps)

        def light_and_variance(look: Surface, filtering: float) -> tuple[float, float]:
            values = {"sampling.min": 64, "sampling.max": 64, "surfaces.filtering": filtering, "lights.seen": "all"}
            picture = self.shot(look, lamp).render(values, size=(64, 36)).picture
            return float(picture.beauty[6:, :, 0].mean()), float(picture.passes["variance"].mean())

        bumpy, filtered = light_and_variance(look, 0.0), light_and_variance(look, 0.5)
        smooth = light_and_variance(Surface("metal", (0.8,) * 3, roughness=0.2, metallic=1.0), 0.5)
        self.assertLess(filtered[1], 0.05 * bumpy[1])
        # Facets that are averaged shade each other, which bumps do not: the light is near, and far from that of a smooth floor.
        self.assertAlmostEqual(filtered[0] / bumpy[0], 1.0, delta=0.25)
        self.assertGreater(abs(smooth[0] / bumpy[0] - 1.0), 0.3)


if __name__ == "__main__":
    unittest.main()
