"""What the values of footage stand for: by hand, by metadata, by tags, or assumed and said so."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any
from unittest import TestCase

import av
import numpy as np
import OpenImageIO as oiio

from tests.clips import described
from yellowclean.cli import main
from yellowclean.engine.colour.input_space import contradictions, encoding_of, input_space
from yellowclean.engine.format import Format
from yellowclean.engine.measure.findings import DETECTORS
from yellowclean.engine.measure.report import source_check
from yellowclean.engine.media import open_source
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.plan import Plan, Step

TAGS = next(d for d in DETECTORS if d.kind == "colour tags")


def video(path: Path, metadata: dict[str, str] | None = None, **tags: int) -> Path:
    """A few grey frames, with these code points of H.273 on the stream and on every frame."""
    with av.open(str(path), "w", container_options={"movflags": "use_metadata_tags"}) as container:
        container.metadata.update(metadata or {})
        stream = container.add_stream("ffv1" if path.suffix == ".mkv" else "libx264", rate=24)
        stream.width, stream.height, stream.pix_fmt = 64, 48, "yuv420p10le"
        for name, code in tags.items():
            setattr(stream.codec_context, name, code)
        for _ in range(3):
            frame = av.VideoFrame(64, 48, "yuv420p10le")
            for plane in frame.planes:
                plane.update(np.full(plane.buffer_size // 2, 512, np.uint16).tobytes())
            for name, code in tags.items():
                setattr(frame, name, code)
            container.mux(stream.encode(frame))
        container.mux(stream.encode(None))
    return path


class Inputs(TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def told(self, path: Path, space: str = "") -> Any:
        source = open_source(path, space=space)
        self.addCleanup(source.close)
        return source.info

    def test_tags_decide_and_what_is_missing_is_found_with_what_was_assumed(self) -> None:
        full = self.told(
            video(self.folder / "full.mkv", color_primaries=9, color_trc=16, colorspace=9, color_range=1)
        )
        self.assertEqual((input_space(full).space, input_space(full).sure), ("Rec.2100-PQ - Display", "tagged"))
        self.assertEqual(TAGS.conclude([(0, None)], full).value, 0)
        bare = self.told(video(self.folder / "bare.mkv"))
        self.assertEqual((input_space(bare).space, input_space(bare).sure), ("Camera Rec.709", "assumed"))
        finding = TAGS.conclude([(0, None)], bare)
        self.assertTrue(finding.outside)
        self.assertIn("no transfer", finding.detail)
        self.assertIn("taken for Camera Rec.709", finding.detail)
        self.assertTrue(source_check([finding]).original, "a camera's own file may lack its tags")

    def test_metadata_that_name_a_space_go_before_tags_and_the_hand_before_both(self) -> None:
        path = self.folder / "named.mp4"
        info = self.told(video(path, {"com.test.capture.colorspace": "slog3_sgamut3cine"}, color_trc=1))
        self.assertEqual((input_space(info).space, input_space(info).sure), ("S-Log3 S-Gamut3.Cine", "named"))
        chosen = self.told(path, "ACEScct")
        self.assertEqual((input_space(chosen).space, input_space(chosen).sure), ("ACEScct", "chosen"))
        self.assertEqual(TAGS.conclude([(0, None)], chosen).value, 0)

    def test_gamut_and_curve_named_apart_are_joined(self) -> None:
        info = described(16, 9, 1, colour_hints=["V-Log", "V-Gamut"])
        self.assertEqual(input_space(info).space, "V-Log V-Gamut")
        self.assertEqual(input_space(described(16, 9, 1, colour_hints=["2.2", "vivid"])).space, "Camera Rec.709")

    def test_tags_that_cannot_all_be_true_are_found(self) -> None:
        """Systems of ITU-R BT.709-6, BT.2020-2 and BT.2100-2: primaries, transfer and matrix belong together."""
        cases = (
            ({"transfer": "smpte2084", "primaries": "bt709", "matrix": "bt709"}, 1),
            ({"transfer": "bt709", "primaries": "bt2020", "matrix": "bt709"}, 1),
            ({"transfer": "smpte170m", "primaries": "bt470bg", "matrix": "smpte170m"}, 0),
            ({"transfer": "smpte2084", "primaries": "smpte432", "matrix": "bt2020nc"}, 0),
            ({"transfer": "bt709", "primaries": "bt2020", "matrix": "bt2020nc"}, 0),
            ({"transfer": "srgb", "primaries": "bt709", "matrix": "rgb"}, 0),
        )
        for tags, count in cases:
            with self.subTest(tags):
                self.assertEqual(len(contradictions(described(16, 9, 1, **tags))), count)

    def test_sequences_by_their_kind(self) -> None:
        found = {}
        for ending, kind in (("png", "uint16"), ("tif", "uint16"), ("exr", "half"), ("dpx", "uint16")):
            name = str(self.folder / f"{ending}_0001.{ending}")
            spec = oiio.ImageSpec(32, 32, 3, kind)
            if ending == "exr":
                spec.attribute("colorInteropID", "lin_ap1_scene")
            picture = oiio.ImageOutput.create(name)
            assert picture is not None
            picture.open(name, spec)
            picture.write_image(np.full((32, 32, 3), 0.5, np.float32))
            picture.close()
            found[ending] = input_space(self.told(self.folder / f"{ending}_####.{ending}"))
        self.assertEqual(found["png"].space, "sRGB Encoded Rec.709 (sRGB)")
        self.assertEqual((found["tif"].space, found["tif"].sure), ("sRGB Encoded Rec.709 (sRGB)", "assumed"))
        self.assertEqual((found["exr"].space, found["exr"].sure), ("ACEScg", "named"))
        self.assertEqual((found["dpx"].space, found["dpx"].missing), ("Camera Rec.709", ["transfer"]))

    def test_what_was_chosen_is_what_files_then_say(self) -> None:
        """Tags of HDR footage that was sent out as BT.709; and of log, which no tag can name."""
        info = described(16, 9, 1, space="Rec.2100-HLG - Display")
        written = Format.of(info).told(info)
        self.assertEqual((written.primaries, written.transfer, written.space), ("bt2020", "arib-std-b67", ""))
        self.assertEqual(written.matrix, info.matrix, "the samples keep the matrix that they are in")
        self.assertFalse(written.resampled)
        self.assertEqual(encoding_of(described(16, 9, 1, space="ACEScct")).transfer, "unknown")

    def test_the_command_line_takes_it_and_refuses_what_is_none(self) -> None:
        shot, plan, out = video(self.folder / "in.mkv"), self.folder / "p.json", self.folder / "out.mkv"
        steps = [Step(kind="convert", settings={"target": "ACEScct"})]
        plan.write_text(Plan(profile=white_profile(1), steps=steps).to_json())
        asked = ["render", str(shot), "--plan", str(plan), "--out", str(out), "--from"]
        self.assertEqual(main([*asked, "no such space"]), 2)
        self.assertFalse(out.exists())
        self.assertEqual(main([*asked, "ACEScg"]), 0)
        source, written = self.told(shot), open_source(out)
        grey = open_source(shot).read(0)[0, 0, 1]
        # ACEScct: S-2016-001, equation 1
        self.assertAlmostEqual(written.read(0)[0, 0, 1], (np.log2(grey) + 9.72) / 17.52, delta=2e-4)
        self.assertEqual(source.space, "")
