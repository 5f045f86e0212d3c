"""Code values to light and back, against published values, and clips as cameras write them, from file to light to file."""

import unittest
from fractions import Fraction

import av
import msgspec
import numpy as np

from lodestar.core.basics.colour import (
    PRIMARIES,
    TRANSFERS,
    Colour,
    decode,
    encode,
    from_tags,
    from_working,
    in_primaries,
    in_working,
    tags_of,
    to_xyz,
)
from lodestar.core.basics.job import Job
from lodestar.core.basics.keyed import constant
from lodestar.core.media.decoding import planes_in
from lodestar.core.media.deliveries import open_delivery
from lodestar.core.media.plates import open_plate, probe
from lodestar.core.media.yuv import frame_from, planes_of, rgb_of
from lodestar.core.picture.composite import light_of
from lodestar.core.picture.display import for_display
from lodestar.core.picture.frame import frame
from lodestar.core.picture.workshop import close_workshop
from lodestar.core.shot.document import Shot, with_plate
from lodestar.core.shot.objects import Card
from lodestar.core.work.delivery import deliver
from tests.helpers import FolderCase, number_of, numbered

REC709, HLG = Colour(), Colour("bt2020", "hlg", "bt2020", False)


class TransferTest(unittest.TestCase):
    def test_published_values(self):
        at = lambda x, curve: float(decode(np.array([x]), curve)[0])
        # ITU-R BT.2408-5, table 1: reference white is 58 % of a PQ signal (203 cd/m2) and 75 % of an HLG one
        self.assertAlmostEqual(at(0.58, "pq") * 203, 203, delta=3)
        self.assertAlmostEqual(at(0.75, "hlg"), 1.0, places=6)
        # ITU-R BT.2100-2, table 4: a full PQ signal is 10,000 cd/m2; SMPTE ST 2084: 100 cd/m2 is 0.5081 (from memory)
        self.assertAlmostEqual(at(1.0, "pq") * 203, 10000, delta=1)
        self.assertAlmostEqual(float(encode(np.array([100 / 203]), "pq")[0]), 0.5081, places=4)
        # BT.2100-2, table 5: the two parts of HLG meet at a signal of 1/2, where the light is 1/12
        self.assertAlmostEqual(at(0.5, "hlg") / at(1.0, "hlg"), 1 / 12, places=5)
        # IEC 61966-2-1: the middle code 0.5 is 0.21404; BT.709-6: 0.5 is 0.25959 (both worked out by hand from the formulas)
        self.assertAlmostEqual(at(0.5, "srgb"), 0.21404, places=5)
        self.assertAlmostEqual(at(0.5, "rec709"), 0.25959, places=5)
        # H.273, table 3: 100:1 and 316:1 logarithms
        self.assertAlmostEqual(at(0.5, "log100"), 0.1, places=6)
        self.assertAlmostEqual(at(0.6, "log316"), 0.1, places=6)

    def test_there_and_back(self):
        codes = np.linspace(0.02, 1, 500).astype(np.float32)
        for name in TRANSFERS:
            np.testing.assert_allclose(encode(decode(codes, name), name), codes, atol=3e-6, err_msg=name)
        with self.assertRaises(ValueError):
            decode(codes, "film")


class PrimariesTest(unittest.TestCase):
    def test_the_published_matrix_from_rec709_to_bt2020(self):
        """ITU-R BT.2087-0, annex 1."""
        np.testing.assert_allclose(from_working("bt2020"), [[0.6274, 0.3293, 0.0433], [0.0691, 0.9195, 0.0114], [0.0164, 0.0880, 0.8956]], atol=6e-5)

    def test_the_published_matrix_of_srgb_to_xyz(self):
        """IEC 61966-2-1:1999, 5.2."""
        np.testing.assert_allclose(to_xyz("bt709"), [[0.4124, 0.3576, 0.1805], [0.2126, 0.7152, 0.0722], [0.0193, 0.1192, 0.9505]], atol=6e-5)

    def test_white_stays_white_and_light_comes_back(self):
        light = np.random.default_rng(0).uniform(0, 1, (50, 3)).astype(np.float32)
        for name in PRIMARIES:
            np.testing.assert_allclose(in_primaries(np.ones((1, 3), np.float32), name), 1.0, atol=1e-5, err_msg=name)
            if name in ("bt2020", "display-p3"):  # which hold all of Rec.709
                np.testing.assert_allclose(in_working(in_primaries(light, name), name), light, atol=1e-5)

    def test_tags_there_and_back(self):
        for colour in (Colour(), HLG, Colour("display-p3", "pq", "bt601", True)):
            self.assertEqual(from_tags(tags_of(colour), Colour()), (colour, ()))
        colour, untold = from_tags((2, 2, 2, 0), Colour(matrix="bt601"))
        self.assertEqual((colour.matrix, untold), ("bt601", ("primaries", "transfer", "matrix")))


class YuvTest(unittest.TestCase):
    """Grey, primaries and random colours through luma and colour differences, against the standards' equations."""

    def test_worked_example_of_100_percent_bars(self):
        """8-bit Rec.709 limited range (SMPTE RP 219, from memory): red is Y 63, Cb 102, Cr 240; blue is Y 32, Cb 240, Cr 118."""
        for rgb, codes in (((255, 0, 0), (63, 102, 240)), ((0, 0, 255), (32, 240, 118)), ((255, 255, 255), (235, 128, 128))):
            made = frame_from(planes_of(np.full((8, 8, 3), rgb, np.uint8), Colour(), 8))
            self.assertEqual(tuple(int(np.frombuffer(memoryview(p), np.uint8)[0]) for p in made.planes), codes)

    def test_all_matrices_depths_and_layouts(self):
        rng = np.random.default_rng(1)
        for matrix, (kr, kb) in {"bt709": (0.2126, 0.0722), "bt601": (0.299, 0.114), "bt2020": (0.2627, 0.0593)}.items():
            for layout, bits in (("yuv420p", 8), ("yuv422p10le", 10), ("yuv444p12le", 12), ("p010le", 10), ("nv12", 8)):
                for full in (False, True):
                    self._one(rng.uniform(0.1, 0.9, 3), matrix, kr, kb, layout, bits, full)

    def _one(self, rgb, matrix, kr, kb, layout, bits, full):
        luma = kr * rgb[0] + (1 - kr - kb) * rgb[1] + kb * rgb[2]
        parts = np.array([luma, (rgb[2] - luma) / (2 * (1 - kb)), (rgb[0] - luma) / (2 * (1 - kr))])
        unit, most = 2 ** (bits - 8), 2**bits - 1
        scale, zero = (
            ([most] * 3, [0, 2 ** (bits - 1), 2 ** (bits - 1)])
            if full
            else ([219 * unit, 224 * unit, 224 * unit], [16 * unit, 128 * unit, 128 * unit])
        )
        codes = np.round(parts * scale + zero).astype(int)
        picture = av.VideoFrame(32, 32, layout)
        kind, shift = (np.uint8, 0) if bits == 8 else (np.uint16, 6 if layout == "p010le" else 0)
        values = [codes[:1], codes[1:]] if layout in ("nv12", "p010le") else [codes[k : k + 1] for k in range(3)]
        for plane, value in zip(picture.planes, values, strict=True):
            count = plane.buffer_size // np.dtype(kind).itemsize
            plane.update(np.resize(value << shift, count).astype(kind).tobytes())
        got = rgb_of(planes_in(picture), Colour(matrix=matrix, full_range=full))
        step = 1 / (219 * unit)
        np.testing.assert_allclose(got[16, 16] / (255 if bits == 8 else 65535), rgb, atol=2.2 * step, err_msg=f"{matrix} {layout} {full}")

    def test_a_flat_picture_comes_back_to_the_code(self):
        rng = np.random.default_rng(2)
        for bits, kind, most in ((8, np.uint8, 255), (10, np.uint16, 65535)):
            for colour in (Colour(), HLG):
                for _ in range(20):
                    rgb = (rng.uniform(0.05, 0.95, 3) * most).astype(kind)
                    made = frame_from(planes_of(np.broadcast_to(rgb, (16, 16, 3)).copy(), colour, bits))
                    back = rgb_of(planes_in(made), colour)
                    again = frame_from(planes_of(back, colour, bits))
                    for a, b in zip(made.planes, again.planes, strict=True):
                        self.assertLessEqual(
                            np.abs(np.frombuffer(memoryview(a), kind)[:8].astype(int) - np.frombuffer(memoryview(b), kind)[:8]).max(), 1
                        )


class CameraTest(FolderCase):
    """Clips as cameras write them."""

    def write(self, name, colour=REC709, bits=8, count=6, size=(64, 96), level=0.5, **settings):
        path = self.folder / name
        with av.open(str(path), "w") as container:
            stream = container.add_stream("libx264", rate=25)
            stream.height, stream.width = size
            stream.pix_fmt = "yuv420p" if bits == 8 else "yuv420p10le"
            stream.options = {"crf": "4", **settings.get("options", {})}
            context = stream.codec_context
            context.color_primaries, context.color_trc, context.colorspace, context.color_range = settings.get("tags", tags_of(colour))
            if "aspect" in settings:
                context.sample_aspect_ratio = settings["aspect"]
            stream.time_base = context.time_base = Fraction(1, 1000)
            for i, at in enumerate(settings.get("times_ms", range(0, 40 * count, 40))):
                picture = np.full((*size, 3), level, np.float64) if settings.get("pictures") is None else settings["pictures"][i] / 255
                one = frame_from(planes_of((picture * (255 if bits == 8 else 65535)).astype(np.uint8 if bits == 8 else np.uint16), colour, bits))
                one.pts, one.time_base = at, Fraction(1, 1000)
                container.mux(stream.encode(one))
            container.mux(stream.encode())
        return path

    def shot(self, path):
        shot = with_plate(Shot(), probe(path))
        card = Card(id="c", width=constant(30.0), height=constant(30.0), position=constant(0.0, 2.0, -10.0), colour=(0.6, 0.6, 0.6))
        return msgspec.structs.replace(shot, objects=(card,))

    def test_a_ten_bit_hlg_clip_keeps_bits_tags_and_light(self):
        self.addCleanup(close_workshop)
        path = self.write("hlg.mp4", HLG, 10, level=0.75)
        info = probe(path)
        self.assertEqual((info.colour, info.untagged, info.depth), (HLG, (), 10))
        light = light_of(frame(with_plate(Shot(), info), 2).pixels, "hlg")
        np.testing.assert_allclose(light, 1.0, atol=0.01)  # reference white
        out = self.folder / "out.mp4"
        deliver(with_plate(Shot(), info), out, Job(), quality="draft")
        again = probe(out)
        self.assertEqual((again.colour, again.depth), (HLG, 10))
        a, b = (open_plate(i) for i in (info, again))
        self.addCleanup(a.close)
        self.addCleanup(b.close)
        self.assertLess(np.abs(a.frame(3).astype(int) - b.frame(3)).max(), 140)  # two steps of ten bits

    def test_a_white_card_has_the_same_light_in_every_colour(self):
        self.addCleanup(close_workshop)
        light = []
        for colour, bits in ((Colour(), 8), (HLG, 10), (Colour("bt2020", "pq", "bt2020"), 10)):
            shot = self.shot(self.write(f"{colour.transfer}.mp4", colour, bits))
            pixels = frame(shot, 2, samples=2).pixels
            light.append(in_working(light_of(pixels, colour.transfer), colour.primaries)[32, 48])
            shown = for_display(pixels, colour)
            self.assertEqual(shown.dtype, np.uint8)
        np.testing.assert_allclose(light[1:], [light[0]] * 2, rtol=0.03)

    def test_what_a_clip_does_not_say_is_guessed_and_said(self):
        info = probe(self.write("bare.mp4", tags=(2, 2, 2, 0)))
        self.assertEqual(set(info.untagged), {"primaries", "transfer", "matrix"})
        self.assertEqual((info.transfer, info.colour.matrix), ("rec709", "bt601"))

    def test_a_phone_clip_stands_upright(self):
        path = self.write("lies.mp4", pictures=numbered(6, 160, 96), size=(96, 160))
        turned = self.folder / "turned.mp4"
        with av.open(str(path)) as source, av.open(str(turned), "w") as target:
            stream = target.add_stream_from_template(source.streams.video[0])
            for packet in source.demux(video=0):
                if packet.dts is not None:
                    packet.stream = stream
                    target.mux(packet)
        data = bytearray(turned.read_bytes())
        # ISO/IEC 14496-12, 8.3.2: the matrix of the track header; this one turns by a quarter
        at = data.index(b"tkhd") + 4 + 40
        for k, value in enumerate((0, 0x10000, 0, -0x10000 & 0xFFFFFFFF, 0, 0, 96 << 16, 0, 0x40000000)):
            data[at + 4 * k : at + 4 * k + 4] = value.to_bytes(4, "big")
        turned.write_bytes(bytes(data))
        info = probe(turned)
        self.assertEqual((info.width, info.height), (96, 160))
        plate = open_plate(info)
        self.addCleanup(plate.close)
        upright = np.rot90(plate.frame(3), -info.turn_deg // 90)
        self.assertEqual(number_of(upright), 3)
        self.assertEqual(plate.luma(3).shape, (160, 96))
        # a quarter clockwise, as the matrix (a b; c d) = (0 1; -1 0) says: what was at the left is at the top
        self.assertGreater(plate.frame(1)[:20, 60:].mean(), 200)

    def test_pixels_that_are_not_square_are_made_so(self):
        info = probe(self.write("wide.mp4", aspect=Fraction(4, 3), size=(96, 120)))
        self.assertEqual((info.width, info.height, info.pixel_aspect), (160, 96, (4, 3)))
        plate = open_plate(info)
        self.addCleanup(plate.close)
        self.assertEqual((plate.frame(1).shape, plate.luma(1).shape), ((96, 160, 3), (96, 160)))

    def test_a_rate_that_varies_is_kept_in_the_delivery(self):
        times = (0, 40, 80, 180, 200, 240)
        info = probe(self.write("varies.mp4", times_ms=times))
        self.assertTrue(info.rate_varies)
        out = self.folder / "out.mp4"
        deliver(with_plate(Shot(), info), out, Job(), quality="draft")
        with av.open(str(out)) as movie:
            shown = [round(float(f.time) * 1000) for f in movie.decode(video=0)]
        self.assertEqual(shown, list(times))

    def test_an_edit_list_that_skips_the_start_is_kept(self):
        """ISO/IEC 14496-12, 8.6.6: media_time says where in the track the shown part begins."""
        levels = [np.full((64, 96, 3), 20.0 + 30 * i) for i in range(6)]
        for name, interval in (("keys.mp4", "1"), ("one-key.mp4", "6")):  # in the second the key frame is not shown
            path = self.write(name, pictures=levels, options={"g": interval, "bf": "0"})
            self.assertEqual(probe(path).count, 6)
            data = bytearray(path.read_bytes())
            at, header = data.index(b"elst") + 4, data.index(b"mdhd") + 4
            self.assertEqual((data[at], int.from_bytes(data[at + 4 : at + 8], "big"), data[header]), (0, 1, 0))  # versions and one entry
            rate = int.from_bytes(data[header + 12 : header + 16], "big")
            data[at + 12 : at + 16] = (2 * rate // 25).to_bytes(4, "big")
            path.write_bytes(data)
            info = probe(path)
            self.assertEqual(info.count, 4)
            plate = open_plate(info)
            self.addCleanup(plate.close)
            for i in (3, 0, 2):
                self.assertAlmostEqual(float(plate.frame(i).mean()), 20 + 30 * (i + 2), delta=2)

    def test_interlaced_is_known(self):
        info = probe(self.write("laced.mp4", options={"x264-params": "interlaced=1:tff=1"}))
        self.assertTrue(info.interlaced)
        self.assertFalse(probe(self.write("plain.mp4")).interlaced)

    def test_odd_sides_and_linear_pictures(self):
        from lodestar.core.media.deliveries import SequenceDelivery

        self.addCleanup(close_workshop)
        out = SequenceDelivery(self.folder / "light.%04d.exr")
        for i in range(3):
            out.add(i, np.full((33, 51, 3), 0.5, np.float32))
        out.finish()
        shot = with_plate(Shot(), probe(self.folder / "light.0000.exr"))
        self.assertEqual((shot.plate.transfer, shot.plate.depth), ("linear", 32))
        movie = self.folder / "out.mp4"
        deliver(shot, movie, Job(), quality="draft")
        info = probe(movie)
        self.assertEqual((info.width, info.height, info.transfer, info.depth), (52, 34, "srgb", 10))
        plate = open_plate(info)
        self.addCleanup(plate.close)
        np.testing.assert_allclose(decode(plate.frame(1) / np.float32(65535), "srgb"), 0.5, atol=0.005)

    def test_sound_is_cut_by_time_and_never_held_as_a_whole(self):
        """An hour of sound: a cut near its end is as quick as one at its beginning, and has the right tone."""
        from tests.helpers import write_clip

        clip = write_clip(self.folder / "clip.mp4", numbered(200), sound=True)  # a tone from 4 s on
        for start, first in ((3.6, 0.4), (6.0, 0.0)):
            out = open_delivery(self.folder / "out.mp4", Fraction(25), 160, 96, Colour(), (str(clip), start, start + 0.8))
            for picture in numbered(20):
                out.add(0, picture)
            out.finish()
            with av.open(str(self.folder / "out.mp4")) as movie:
                sound = np.concatenate([f.to_ndarray()[0] for f in movie.decode(audio=0)])
            self.assertAlmostEqual(np.flatnonzero(np.abs(sound) > 0.2)[0] / 48000, first, delta=0.03)
            self.assertAlmostEqual(len(sound) / 48000, 0.8, delta=0.05)


if __name__ == "__main__":
    unittest.main()
