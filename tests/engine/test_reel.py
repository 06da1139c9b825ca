"""The reel: timelines in, events to the frame, and the same timeline out."""

from __future__ import annotations

import unittest
from fractions import Fraction
from pathlib import Path
from typing import ClassVar

import numpy as np
import opentimelineio as otio
from opentimelineio import opentime

from yellowclean.engine.errors import BadInput
from yellowclean.engine.media import destination, open_source, open_writer
from yellowclean.engine.media.timecode import exact, frames_between
from yellowclean.engine.plan import Plan
from yellowclean.engine.reel.finding import found_media
from yellowclean.engine.reel.naming import named
from yellowclean.engine.reel.note import Compared, NoteShot
from yellowclean.engine.reel.relink import as_edls, as_otio, relinked, written
from yellowclean.engine.reel.taking import Taken, taken
from yellowclean.engine.reel.timeline import described, from_json, path_of, read
from yellowclean.engine.render import render

from ..clips import class_folder, temporary_folder
from ..clips import described as media_of

WIDTH, HEIGHT = 48, 32
NTSC, FILM = Fraction(30000, 1001), Fraction(24000, 1001)


def numbered(n: int) -> np.ndarray:
    """A picture that spells its number in 16 black and white fields, and in grain that no other frame has."""
    bits = [(n >> k) & 1 for k in range(16)]
    fields = np.array(bits, np.float32).reshape(2, 8)
    picture = np.kron(fields, np.ones((HEIGHT // 2, WIDTH // 8), np.float32)) * 0.5 + 0.2
    grain = np.random.default_rng(n).integers(0, 512, (HEIGHT, WIDTH, 3)) / 65535
    return (picture[..., None] + grain).astype(np.float32)


def number_in(frame: np.ndarray) -> int:
    cells = frame[..., 1].reshape(2, HEIGHT // 2, 8, WIDTH // 8).mean(axis=(1, 3)).ravel()
    return sum(1 << k for k, level in enumerate(cells) if level > 0.45)


def medium(path: Path, first: int, frames: int, rate: Fraction, timecode: str | None) -> Path:
    """Footage whose pictures spell `first` and up."""
    told = media_of(WIDTH, HEIGHT, frames, rate=str(rate), timecode=timecode)
    with open_writer(destination(path), told) as writer:
        for n in range(frames):
            writer.write(numbered(first + n))
    return path


class Media(unittest.TestCase):
    """Four pieces of footage in folders of their own: film rate with timecode, drop-frame, none, and a sequence."""

    folder: ClassVar[Path]

    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = class_folder(cls)
        for name in ("day1", "day2"):
            (cls.folder / name).mkdir()
        medium(cls.folder / "day1" / "q9_012_quay.mkv", 100, 40, FILM, "01:02:10:12")
        medium(cls.folder / "day2" / "q9_020_loft.mkv", 200, 50, NTSC, "01:00:59;20")
        medium(cls.folder / "day2" / "q9_031_dusk.mkv", 300, 30, FILM, None)
        medium(cls.folder / "day2" / "q9_053_lapse_0900.png", 900, 1, FILM, None)
        told = media_of(WIDTH, HEIGHT, 24, rate="24000/1001", first_number=1001)
        with open_writer(destination(cls.folder / "day2" / "q9_053_lapse_####.tif"), told) as writer:
            for n in range(24):
                writer.write(numbered(500 + n))

    def taken(self, timeline: otio.schema.Timeline, handles: int = 4) -> list[Taken]:
        told = described(timeline)
        shots, missing = taken(told, found_media(told, [self.folder]), handles)
        self.assertEqual(missing, [])
        return shots

    def numbers(self, shot: Taken) -> list[int]:
        source = open_source(shot.path, frames=shot.frames)
        self.addCleanup(source.close)
        return [number_in(source.read(n)) for n in range(source.info.frames)]

    def through(self, timeline: otio.schema.Timeline, rate: Fraction, ending: str) -> dict[str, list[int]]:
        """Take, write and relink; what each clip of the written timeline plays, as read by OpenTimelineIO from both
        documents, and found by their own numbers."""
        out = temporary_folder(self)
        files = {}
        for shot in self.taken(timeline):
            source = open_source(shot.path, frames=shot.frames)
            self.addCleanup(source.close)
            name = f"{shot.name}_A{'_####' if ending == '.tif' else ''}{ending}"
            target = destination(out / name)
            render(source, Plan(), target)
            cut = shot.place.cut(len(shot.frames))
            files[shot.place.clip] = written(target.path, cut.start, len(cut))
        back = relinked(timeline, files)
        told = described(from_json(as_otio(back)))
        found = {f.key: f.path for f in found_media(told, [out])}
        plays = {}
        for event in told.events:
            shot = next(s for s in self.placed_in(told, out) if s.place.number == event.number)
            self.assertEqual(str(shot.path), found[event.medium])
            plays[f"{event.track} {event.record}"] = self.numbers(shot)
        lists, _ = as_edls(back, rate)
        for track, text in lists.items():
            again = described(read(text.encode(), "out.edl", rate))
            for event, shot in zip(again.events, self.placed_in(again, out), strict=True):
                self.assertEqual(
                    self.numbers(shot), plays[f"{track} {again.start - told.start + event.record}"], text
                )
        return plays

    def placed_in(self, told: object, folder: Path) -> list[Taken]:
        shots, missing = taken(told, found_media(told, [folder]), 0)  # type: ignore[arg-type]
        self.assertEqual(missing, [])
        return shots


def clip(
    name: str, start: int, frames: int, rate: Fraction, url: str = "", begins: int | None = None
) -> otio.schema.Clip:
    span = opentime.TimeRange(opentime.RationalTime(start, float(rate)), opentime.RationalTime(frames, float(rate)))
    reference = otio.schema.MissingReference()
    if url:
        reference = otio.schema.ExternalReference(url)
        if begins is not None:
            reference.available_range = opentime.TimeRange(
                opentime.RationalTime(begins, float(rate)), opentime.RationalTime(40, float(rate))
            )
    return otio.schema.Clip(name, media_reference=reference, source_range=span)


def gap(frames: int, rate: Fraction) -> otio.schema.Gap:
    return otio.schema.Gap(duration=opentime.RationalTime(frames, float(rate)))


def timeline_of(**tracks: list[object]) -> otio.schema.Timeline:
    timeline = otio.schema.Timeline("Quay Nine")
    for name, children in tracks.items():
        track = otio.schema.Track(name, kind=otio.schema.TrackKind.Video)
        track.extend(children)
        timeline.tracks.append(track)
    return timeline


class RoundTrips(Media):
    """Every event's frames are those of the source, after the timeline went in, was written and came out."""

    def test_cuts_gaps_tracks_and_handles_at_23_976(self) -> None:
        begin = (1 * 3600 + 2 * 60 + 10) * 24 + 12  # 01:02:10:12
        timeline = timeline_of(
            V1=[
                clip("q9_012_quay", begin + 5, 8, FILM, "file:///old/place/day1/q9_012_quay.mkv", begin),
                gap(6, FILM),
                clip("q9_031_dusk", 2, 6, FILM, "q9_031_dusk.mkv", 0),
                clip("q9_012_quay", begin, 4, FILM, "file:///old/place/day1/q9_012_quay.mkv", begin),
            ],
            V2=[gap(10, FILM), clip("q9_053_lapse", 1003, 5, FILM, "/old/q9_053_lapse_####.tif", 1001)],
        )
        timeline.global_start_time = opentime.RationalTime(24 * 3600, float(FILM))
        wanted = {
            "V1 0": list(range(105, 113)), "V1 14": list(range(302, 308)), "V1 20": list(range(100, 104)),
            "V2 10": list(range(502, 507)),
        }  # fmt: skip
        for ending in (".mkv", ".mov", ".tif"):
            with self.subTest(ending):
                self.assertEqual(self.through(timeline, FILM, ending), wanted)

    def test_drop_frame_timecode_over_a_minute_that_drops(self) -> None:
        text = (
            "TITLE: QUAY NINE\nFCM: DROP FRAME\n\n"
            "001  Q9020LOF V     C        01:00:59:22 01:01:00:04 01:00:00:00 01:00:00:10\n"
            "* FROM CLIP NAME: q9_020_loft\n* COMMENT: the lamp\n* LOC: 01:00:59:25 RED     dust\n"
            "002  Q9020LOF V     C        01:01:00:10 01:01:00:20 01:00:00:20 01:00:01:00\n"
            "* FROM CLIP NAME: q9_020_loft\n"
        )
        timeline = read(text.encode(), "reel.edl", NTSC)
        told = described(timeline)
        # SMPTE ST 12-1: 00 and 01 are dropped at each minute but the tenth, so 59;29 is followed by 00;02
        self.assertEqual([(e.frames, e.record) for e in told.events], [(10, 0), (10, 20)])
        self.assertEqual([m.frame for m in told.events[0].markers], [3])
        self.assertIn("COMMENT: the lamp", told.events[0].comments)
        plays = self.through(timeline, NTSC, ".mkv")
        self.assertEqual(plays, {"V 0": list(range(202, 212)), "V 20": list(range(218, 228))})
        lists, _ = as_edls(timeline, NTSC)
        self.assertIn("FCM: DROP FRAME", lists["V"])
        self.assertIn("01:00:59;22 01:01:00;04 01:00:00;00 01:00:00;10", lists["V"])

    def test_dissolves_need_and_keep_the_frames_under_them(self) -> None:
        dissolve = otio.schema.Transition(
            transition_type=otio.schema.TransitionTypes.SMPTE_Dissolve,
            in_offset=opentime.RationalTime(2, float(FILM)), out_offset=opentime.RationalTime(3, float(FILM)),
        )  # fmt: skip
        timeline = timeline_of(
            V1=[clip("q9_031_dusk", 4, 8, FILM), dissolve, clip("q9_053_lapse", 1006, 8, FILM)],
        )
        shots = self.taken(timeline, 0)
        self.assertEqual([self.numbers(s) for s in shots], [list(range(304, 315)), list(range(503, 513))])

    def test_retimed_nested_generated_and_disabled_events_are_told(self) -> None:
        slow, frozen, off = clip("q9_031_dusk", 3, 8, FILM), clip("q9_031_dusk", 7, 8, FILM), clip("x", 0, 4, FILM)
        slow.effects.append(otio.schema.LinearTimeWarp("slow", 0.5))
        frozen.effects.append(otio.schema.FreezeFrame())
        off.enabled = False
        bars = otio.schema.Clip(
            "bars", media_reference=otio.schema.GeneratorReference(generator_kind="SMPTEBars"),
            source_range=opentime.TimeRange(duration=opentime.RationalTime(9, float(FILM))),
        )  # fmt: skip
        inner = otio.schema.Track("inner", kind=otio.schema.TrackKind.Video)
        inner.append(clip("q9_053_lapse", 1001, 6, FILM))
        nest = otio.schema.Stack("title", children=[inner])
        told = described(timeline_of(V1=[slow, frozen, off, bars, nest]))
        shots = self.taken(timeline_of(V1=[slow.deepcopy(), frozen.deepcopy(), nest.deepcopy()]), 0)
        self.assertEqual([self.numbers(s) for s in shots], [list(range(303, 307)), [307], list(range(500, 506))])
        self.assertIn("50 % speed", shots[0].place.told[0])
        self.assertIn("nested", shots[2].place.told[0])
        self.assertEqual([line.split(":")[0] for line in told.left_out], ["x on V1", "bars on V1"])

    def test_a_retimed_event_comes_out_of_a_list_with_what_it_plays(self) -> None:
        clips = [clip(name, 10, 8, FILM, f"/x/{name}.mkv", 0) for name in ("twice", "half", "frozen", "plain")]
        for each, scalar in zip(clips, (2.0, 0.5), strict=False):
            each.effects.append(otio.schema.LinearTimeWarp(time_scalar=scalar))
        clips[2].effects.append(otio.schema.FreezeFrame())
        lists, lost = as_edls(timeline_of(V1=clips), FILM)
        events = [line.split() for line in lists["V1"].splitlines() if line[:1].isdigit()]
        begin = "00:00:00:10"
        played = [frames_between(begin, event[5], FILM) for event in events]
        self.assertEqual((lost, [event[4] for event in events]), ([], [begin] * 4))
        self.assertEqual(played, [16, 4, 1, 8])  # what is played (CMX 3600, from memory)
        read_back = described(read(lists["V1"].encode(), "out.edl", FILM)).events
        self.assertEqual([event.frames for event in read_back], played)

    def test_events_without_a_render_stay_at_their_source(self) -> None:
        timeline = timeline_of(V1=[clip("a", 0, 4, FILM, "a.mkv"), clip("b", 9, 4, FILM, "b.mkv")])
        out = relinked(timeline, {})
        self.assertTrue(out.is_equivalent_to(timeline))


class Finding(Media):
    def test_by_path_name_reel_timecode_and_what_is_missing(self) -> None:
        begin = (1 * 3600 + 2 * 60 + 10) * 24 + 12
        by_reel = clip("a shot", begin, 4, FILM)
        by_reel.metadata["cmx_3600"] = {"reel": "Q9012QUA"}
        timeline = timeline_of(
            V1=[
                clip("one", begin, 4, FILM, "/elsewhere/day1/q9_012_quay.mkv"),
                clip("two", 0, 4, FILM, "Q9_031_DUSK.MKV"),
                clip("three", 1001, 4, FILM, "C:\\reel\\q9_053_lapse.mov"),
                by_reel,
                clip("nameless", begin + 9, 4, FILM),
                clip("gone", 0, 4, FILM, "q9_099_nowhere.mkv"),
                clip("short", 28, 4, FILM, "day2/q9_031_dusk.mkv"),
            ]
        )
        told = described(timeline)
        found = found_media(told, [self.folder])
        self.assertEqual(
            [(Path(f.path).name, f.how) for f in found[:6]],
            [
                ("q9_012_quay.mkv", "by its path"), ("q9_031_dusk.mkv", "by its name"),
                ("q9_053_lapse_####.tif", "by its name, with another ending"),
                ("q9_012_quay.mkv", "by its reel and timecode"), ("q9_012_quay.mkv", "by its timecode alone"),
                ("", "not in these folders"),
            ],
        )  # fmt: skip
        self.assertIn("plays frames 28 to 31, the file has 0 to 29", found[6].how)
        shots, missing = taken(told, found, 100)
        self.assertEqual(len(shots), 5)
        self.assertEqual(len(missing), 2)
        self.assertEqual(shots[0].frames, range(40), "handles go as far as the file does")
        self.assertEqual((shots[0].place.head, shots[0].place.tail), (0, 36))

    def test_names_are_kept_and_told_apart(self) -> None:
        timeline = timeline_of(
            V1=[
                clip("q9_031_dusk.mkv", 0, 2, FILM),
                clip("q9_031_dusk.mkv", 9, 2, FILM),
                clip("../up", 3, 2, FILM, "q9_031_dusk.mkv"),
            ]
        )
        self.assertEqual([s.name for s in self.taken(timeline)], ["q9_031_dusk", "q9_031_dusk_2", "up"])


class BadTimelines(unittest.TestCase):
    def test_one_line_for_what_is_none(self) -> None:
        for data, name, said in (
            (b"", "empty.edl", "no event"),
            (b"\x00\x01\x02", "noise.otio", "cannot be read"),
            (b"{}", "other.otio", "holds no timeline"),
            (b"<xmeml>", "cut.xml", "cannot be read"),
            (b"001 A V C 00:00", "short.edl", "cannot be read"),
            (b"x", "reel.aaf", "no timeline by its name"),
            (b'{"OTIO_SCHEMA": "Gap.1"}', "gap.otio", "holds no timeline"),
        ):
            with self.subTest(name), self.assertRaisesRegex(BadInput, said) as caught:
                described(read(data, name))
            self.assertNotIn("\n", str(caught.exception))

    def test_times_that_are_no_times_are_left_out(self) -> None:
        timeline = timeline_of(V1=[clip("wild", 0, 4, FILM, "a.mkv"), clip("fine", 0, 4, FILM, "a.mkv")])
        timeline.tracks[0][0].source_range = opentime.TimeRange(
            opentime.RationalTime(float("nan"), 24), opentime.RationalTime(1e300, 24)
        )
        self.assertEqual([e.name for e in described(timeline).events], ["fine"])


class Names(unittest.TestCase):
    def test_templates(self) -> None:
        values = {"shot": "q9/012", "version": "A", "event": 7, "timecode": "01:02:03:04", "job": "Quay: Nine"}
        self.assertEqual(named("{event:03}_{shot}_{version}", values), "007_q9_012_A")
        self.assertEqual(named("{job}_{timecode}", values), "Quay_ Nine_01_02_03_04")
        for wrong in ("{shot", "{camera}", "{shot.real}", "a/{shot}", "", "{0}", "{shot}####", "{event:q}"):
            with self.subTest(wrong), self.assertRaises(BadInput):
                named(wrong, values)

    def test_rates_that_are_written_short(self) -> None:
        self.assertEqual([exact(r) for r in (23.976, 23.98, 29.97, 59.94, 24, 25)],
                         [FILM, FILM, NTSC, 2 * NTSC, 24, 25])  # fmt: skip

    def test_addresses_of_files(self) -> None:
        self.assertEqual(path_of("file:///a%20b/c%23d.mov"), "/a b/c#d.mov")
        self.assertEqual(path_of("C:\\reel\\a.mov"), "C:/reel/a.mov")
        self.assertEqual(path_of("/seq/f_####.exr"), "/seq/f_####.exr")


class Notes(unittest.TestCase):
    def test_what_no_file_was_read_for_is_not_said_to_be_inside_after(self) -> None:
        def compared(kind: str, after: list[float | None]) -> Compared:
            return Compared(
                kind=kind, unit="CV", tolerance=4, before=1, was_outside=False, after=after,
                still=[False] * len(after), outside=False,
            )  # fmt: skip

        found = [compared("banding", [0.5, None]), compared("softness", [None, None]), compared("ringing", [1, 1])]
        shot = NoteShot(name="quay", source=media_of(WIDTH, HEIGHT, 2), input_space="", findings=found)
        self.assertEqual(
            shot.inside,
            "Inside before and after: banding, ringing."
            " Inside in the source, not read in what was written: softness.",
        )
