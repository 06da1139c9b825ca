"""Treatments: identities, exact regions, bias, and what they do to footage whose truth is known."""

from __future__ import annotations

from unittest import TestCase, mock

import colour
import cv2
import numpy as np
from scipy.fft import dctn

from tests.clips import MemorySource, psnr, shot_pair
from yellowclean.engine import parallel, shrinking
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import CV_SCALE, Array, Frame, Region, luma
from yellowclean.engine.measure.noise import measure_noise
from yellowclean.engine.measure.spectrum import block_dct
from yellowclean.engine.noise.profile import NoiseCurve, NoiseProfile, white_profile
from yellowclean.engine.noise.stabilise import Stabiliser
from yellowclean.engine.octaves import OCTAVES, halved
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.testcamera import Camera
from yellowclean.engine.treat import TREATMENTS


def octaves_of(frame: Frame) -> list[Array]:
    """The three channels of a frame, on it, on its half, and on its quarter: 3×H×W each."""
    planes = [np.ascontiguousarray(frame[..., c], np.float32) for c in range(3)]
    found = []
    for _ in range(OCTAVES):
        found.append(np.stack(planes))
        planes = [halved(p) for p in planes]
    return found


CHAIN = [Step(kind="temporal"), Step(kind="spatial")]


def result(
    frames: list[Frame], profile: NoiseProfile, steps: list[Step], n: int, region: Region | None = None
) -> Frame:
    return Pipeline(Footage(MemorySource(frames)), Plan(profile=profile, steps=steps)).frame(n, region)


def poisson_gauss(gain: float, read: float) -> NoiseProfile:
    """Sigma² = gain·level + read², the same for all channels."""
    levels = np.linspace(0, 1, 257)
    sigma = np.sqrt(gain * levels + read**2) * CV_SCALE
    white = white_profile(1.0)
    lists = {f"{s}_cv": sigma.tolist() for s in ("r", "g", "b", "luma", "cb", "cr")}
    curve = NoiseCurve(level_cv=(levels * CV_SCALE).tolist(), share=[1 / 257] * 257, **lists)
    return white.model_copy(update={"curve": curve})


class Identities(TestCase):
    def test_the_dct_is_scipys(self) -> None:
        """Independent reference: scipy.fft, type II, orthonormal."""
        plane = np.random.default_rng(0).standard_normal((24, 160)).astype(np.float32)
        lined, block = np.zeros((8, 2, 96), np.float32), np.zeros(1024, np.float32)
        shrinking._columns(plane, 6, lined)
        shrinking._blocks(lined, 3, block)
        lanes = block.reshape(8, 8, 16)
        for lane in (0, 7, 15):
            expected = dctn(plane[6:14, 6 + 2 * lane : 14 + 2 * lane], norm="ortho")
            np.testing.assert_allclose(lanes[..., lane], expected, atol=2e-5)
        kept = shrinking.shrunk(plane, None, np.zeros(64, np.float32), np.ones((12, 80), np.float32), 1.0).plane
        np.testing.assert_allclose(kept, plane, atol=2e-5)
        np.testing.assert_allclose(
            block_dct(plane[None, :8, :8])[0, 0], dctn(plane[:8, :8], norm="ortho").ravel(), atol=2e-5
        )

    def test_a_guide_without_noise_passes_everything(self) -> None:
        frames = shot_pair("cloth", Camera(noiseless=True))[1]
        out = result(frames, white_profile(0.001), CHAIN, 2)
        np.testing.assert_allclose(out, frames[2], atol=2e-4)

    def test_stabilised_variance_is_one_at_every_level(self) -> None:
        profile = poisson_gauss(0.002, 0.01)
        stabiliser = Stabiliser.of(profile)
        rng = np.random.default_rng(1)
        for level in (0.1, 0.3, 0.8):
            sigma = np.sqrt(0.002 * level + 0.01**2)
            frame = (level + sigma * rng.standard_normal((128, 128, 3))).astype(np.float32)
            np.testing.assert_allclose(stabiliser.opponent(frame).std(axis=(1, 2)), 1, rtol=0.04)

    def test_forward_is_the_closed_form_of_poisson_gauss(self) -> None:
        """Closed form: ∫dx/√(gx+r²) = 2(√(gx+r²) - r)/g (the generalised Anscombe shape)."""
        gain, read = 0.002, 0.01
        table = Stabiliser.of(poisson_gauss(gain, read)).forward[0]
        x = np.array([0.05, 0.2, 0.6, 0.95])
        grid = np.linspace(-0.25, 1.5, len(table))
        ours = np.interp(x, grid, table) - np.interp(0.0, grid, table)
        np.testing.assert_allclose(ours, 2 * (np.sqrt(gain * x + read**2) - read) / gain, rtol=2e-3)

    def test_full_averaging_is_unbiased_in_shadows(self) -> None:
        """Mäkitalo and Foi 2013: the plain inverse of an average in the stabilised domain is biased."""
        profile = poisson_gauss(0.004, 0.008)
        rng = np.random.default_rng(2)
        for level in (0.06, 0.15):
            sigma = np.sqrt(0.004 * level + 0.008**2)
            frame = (level + sigma * rng.standard_normal((256, 256, 3))).astype(np.float32)
            stabiliser = Stabiliser.of(profile)
            before = stabiliser.opponent(frame)
            after = np.broadcast_to(before.mean(axis=(1, 2), keepdims=True), before.shape).astype(np.float32).copy()
            plain = stabiliser.applied(frame, before, after, np.zeros((2, 256, 256), np.float32)).mean()
            unbiased = stabiliser.applied(frame, before, after, np.ones((2, 256, 256), np.float32)).mean()
            self.assertGreater(abs(plain - level) * CV_SCALE, 0.5)
            self.assertLess(abs(unbiased - level) * CV_SCALE, 0.3)


class Regions(TestCase):
    def setUp(self) -> None:
        self.noisy, _ = shot_pair("quay", Camera(stops_under=3))
        self.profile = measure_noise(MemorySource(self.noisy)).profile

    def test_every_treatment_gives_a_region_exactly_as_in_the_whole_frame(self) -> None:
        regions = (Region(0, 0, 50, 40), Region(101, 57, 83, 61), Region(270, 150, 50, 42), Region(7, 100, 1, 1))
        chains = [[Step(kind=kind)] for kind, t in TREATMENTS.items() if not t.reshapes] + [CHAIN, CHAIN[::-1]]
        for steps in chains:
            for n in (0, 3):
                whole = result(self.noisy, self.profile, steps, n)
                for region in regions:
                    with self.subTest(steps=[s.kind for s in steps], n=n, region=region):
                        alone = result(self.noisy, self.profile, steps, n, region)
                        np.testing.assert_array_equal(alone, whole[region.slices])

    def test_one_thread_and_many_agree_exactly(self) -> None:
        many = result(self.noisy, self.profile, CHAIN, 2)
        with mock.patch.object(parallel, "thread_count", lambda: 1):
            np.testing.assert_array_equal(result(self.noisy, self.profile, CHAIN, 2), many)

    def test_odd_sizes_and_tiny_frames(self) -> None:
        for height, width in ((191, 319), (33, 17), (5, 3), (1, 1)):
            frames = [np.ascontiguousarray(f[:height, :width]) for f in self.noisy[:3]]
            with self.subTest(size=(width, height)):
                out = result(frames, self.profile, CHAIN, 1)
                self.assertEqual(out.shape, (height, width, 3))
                self.assertTrue(np.isfinite(out).all())


class Effects(TestCase):
    def test_each_treatment_and_the_chain_come_closer_to_the_truth(self) -> None:
        for bayer in (False, True):
            noisy, clean = shot_pair("quay", Camera(stops_under=3, bayer=bayer))
            profile = measure_noise(MemorySource(noisy)).profile
            start = psnr(noisy[3], clean[3])
            gain = {
                name: psnr(result(noisy, profile, steps, 3), clean[3]) - start
                for name, steps in (("temporal", CHAIN[:1]), ("spatial", CHAIN[1:]), ("both", CHAIN))
            }
            with self.subTest(bayer=bayer, gain=gain):
                self.assertGreater(gain["temporal"], 3.0)
                self.assertGreater(gain["spatial"], 3.5)
                self.assertGreater(gain["both"], max(gain["temporal"], gain["spatial"]) + 1.0)

    def test_static_merge_leaves_the_variance_it_says(self) -> None:
        rng = np.random.default_rng(4)
        still = shot_pair("cloth", Camera(noiseless=True))[1][0]
        frames = [(still + rng.standard_normal(still.shape) * 10 / CV_SCALE).astype(np.float32) for _ in range(5)]
        plan = Plan(profile=white_profile(10), steps=[Step(kind="temporal", settings={"frames": 2})])
        pipeline = Pipeline(Footage(MemorySource(frames)), plan)
        left = (pipeline.frame(2) - still).std() * CV_SCALE / 10
        self.assertLess(left, np.sqrt(1 / 5) * 1.12)  # five frames: σ/√5, and a little distrust
        self.assertAlmostEqual(pipeline.noise_left(2)[0], left, delta=0.08)

    def test_a_standing_shot_reaches_the_limit_of_eleven_frames(self) -> None:
        """The mean of eleven independent frames has 1/11 of the variance; plain areas must not be carried along."""
        noisy, clean = shot_pair("cloth", Camera(stops_under=3), 960, 540, 11, motion=(0.0, 0.0, 0.0))
        profile = measure_noise(MemorySource(noisy)).profile
        out = result(noisy, profile, [Step(kind="temporal", settings={"frames": 5})], 5)
        left = 11 * (out - clean[5]).var(axis=(0, 1)) / (noisy[5] - clean[5]).var(axis=(0, 1))
        self.assertLess(left.max(), 1.25)
        self.assertGreater(left.min(), 0.9)

    def test_an_axis_without_noise_harms_nothing(self) -> None:
        """Grey noise has no colour, and a picture may have none at all."""
        rng = np.random.default_rng(14)
        grey = [np.repeat(rng.normal(0.4, 0.02, (96, 128, 1)), 3, axis=2).astype(np.float32) for _ in range(3)]
        white = white_profile(20)
        for silent in ([1, 2], [0, 1, 2]):
            spectrum = white.spectrum_array().reshape(3, 3, 64)
            spectrum[silent] = 0
            profile = white.model_copy(update={"spectrum": spectrum.tolist()})
            for steps in ([*CHAIN, Step(kind="grain")], CHAIN):
                self.assertTrue(np.isfinite(result(grey, profile, steps, 1)).all())

    def test_a_cut_takes_no_neighbour(self) -> None:
        rng = np.random.default_rng(5)
        a, b = shot_pair("cloth", Camera(noiseless=True))[1][0], shot_pair("dusk", Camera(noiseless=True))[1][0]
        frames = [(f + rng.standard_normal(f.shape) * 4 / CV_SCALE).astype(np.float32) for f in (a, a, b, b)]
        step = Step(kind="temporal", settings={"frames": 1})
        out = result(frames, white_profile(4), [step], 2)
        self.assertLess(np.abs(out - b).mean(), np.abs(frames[2] - b).mean())

    def test_repeated_frames_are_no_second_opinion(self) -> None:
        noisy, clean = shot_pair("quay", Camera(stops_under=3))
        profile = measure_noise(MemorySource(noisy)).profile
        repeated = [noisy[2]] * 5
        alone = psnr(result([noisy[2]], profile, CHAIN[1:], 0), clean[2])
        self.assertGreater(psnr(result(repeated, profile, CHAIN, 2), clean[2]), alone - 0.2)
        plan = Plan(profile=profile, steps=CHAIN[:1])
        self.assertGreater(Pipeline(Footage(MemorySource(repeated)), plan).noise_left(2)[0], 0.9)

    def test_flashes_and_fades_pull_no_level_along(self) -> None:
        rng = np.random.default_rng(11)
        still = shot_pair("cloth", Camera(noiseless=True), 480, 272, 2)[1][0]
        gains = {"flash": [1, 1, 1, 1.5, 1, 1, 1], "fade": [1, 0.85, 0.7, 0.55, 0.4, 0.25, 0.1]}
        for name, curve in gains.items():
            truth = [(still * gain).astype(np.float32) for gain in curve]
            frames = [(f + rng.normal(0, 8 / CV_SCALE, f.shape)).astype(np.float32) for f in truth]
            for n in (2, 3, 6):
                chain, alone = (result(frames, white_profile(8), s, n) for s in (CHAIN, CHAIN[1:]))
                with self.subTest(name, n=n):
                    self.assertLess(np.abs((chain - truth[n]).mean(axis=(0, 1))).max() * CV_SCALE, 0.3)
                    self.assertGreater(psnr(chain, truth[n]), psnr(alone, truth[n]) - 0.05)

    def test_clipped_whites_and_crushed_blacks_stay_where_they_are(self) -> None:
        rng = np.random.default_rng(12)
        scene = np.full((128, 192, 3), 0.5, np.float32)
        scene[:, :64], scene[:, 128:] = 0.0, 1.0
        frames = [np.clip(scene + rng.normal(0, 0.01, scene.shape), 0, 1).astype(np.float32) for _ in range(5)]
        out = result(frames, measure_noise(MemorySource(frames)).profile, CHAIN, 2)
        for columns in (slice(4, 60), slice(132, 188)):
            self.assertLess(abs(float((out - frames[2])[:, columns].mean())) * CV_SCALE, 0.5)
            self.assertLess(out[:, columns].std(), 0.5 * frames[2][:, columns].std())

    def test_amounts_scale_what_is_taken_and_zero_takes_nothing(self) -> None:
        noisy, _ = shot_pair("dusk", Camera(stops_under=3))
        profile = measure_noise(MemorySource(noisy)).profile
        taken = []
        for share in (0, 25, 50, 100):
            step = Step(kind="spatial", settings={"luma": share, "chroma": share})
            taken.append(float((noisy[2] - result(noisy, profile, [step], 2)).std()))
        self.assertEqual(taken[0], 0)
        self.assertEqual(taken, sorted(taken))
        self.assertGreater(taken[3], 1.5 * taken[1])

    def test_luma_alone_leaves_colour_noise_and_the_reverse(self) -> None:
        rng = np.random.default_rng(6)
        frame = (0.4 + rng.standard_normal((96, 96, 3)) * 10 / CV_SCALE).astype(np.float32)
        for kept, settings in (("chroma", {"chroma": 0}), ("luma", {"luma": 0})):
            out = result([frame], white_profile(10), [Step(kind="spatial", settings=settings)], 0)
            grey = out.mean(axis=2, keepdims=True)
            luma_left = grey.std() * np.sqrt(3) * CV_SCALE / 10
            chroma_left = (out - grey).std() * np.sqrt(1.5) * CV_SCALE / 10
            with self.subTest(kept=kept):
                left = {"luma": luma_left, "chroma": chroma_left}
                self.assertAlmostEqual(left.pop(kept), 1, delta=0.05)
                self.assertLess(left.popitem()[1], 0.25)

    def test_octaves_are_treated_apart(self) -> None:
        """Blotches of 16 px under fine noise: each amount takes its own kind."""
        rng = np.random.default_rng(7)
        fine = rng.normal(0, 6 / CV_SCALE, (256, 256, 3))
        blotches = np.kron(rng.normal(0, 6 / CV_SCALE, (16, 16, 3)), np.ones((16, 16, 1)))
        noise = (fine + blotches).astype(np.float32)
        measured = np.array([block_dct(planes).std(axis=1) for planes in octaves_of(noise)]).transpose(1, 0, 2)
        profile = white_profile(6).model_copy(update={"spectrum": (measured / (6 / CV_SCALE)).tolist()})
        left = {}
        for name, off in (("fine", "coarse"), ("coarse", "fine")):
            step = Step(kind="spatial", settings={off: 0, "medium": 0})
            out = result([np.float32(0.4) + noise], profile, [step], 0) - np.float32(0.4)
            large = octaves_of(out)[2].std() / octaves_of(noise)[2].std()
            small = np.diff(out, axis=1).std() / np.diff(noise, axis=1).std()
            left[name] = float(small), float(large)
        self.assertLess(left["fine"][0], 0.3)
        self.assertGreater(left["fine"][1], 0.9)
        self.assertLess(left["coarse"][1], 0.7)
        self.assertGreater(left["coarse"][0], 0.9)

    def test_flat_places_get_more_and_guarded_texture_less(self) -> None:
        frames, clean = shot_pair("cloth", Camera(stops_under=3))
        profile = measure_noise(MemorySource(frames)).profile
        plain = np.full_like(clean[0], 0.2) + (frames[0] - clean[0])

        detail = np.abs(clean[0] - cv2.GaussianBlur(clean[0], (0, 0), 3)).max(axis=2)
        texture = cv2.blur(detail, (9, 9)) > 3 * profile.typical_cv("g") / CV_SCALE
        self.assertGreater(texture.mean(), 0.02)

        def taken(source: Frame, **settings: float) -> Array:
            return luma(source - result([source], profile, [Step(kind="spatial", settings=settings)], 0))

        self.assertLess(taken(frames[0], guard=100)[texture].std(), 0.75 * taken(frames[0])[texture].std())
        self.assertGreater(taken(plain, guard=100).std(), 0.97 * taken(plain).std())
        flat_left = [
            float(result([plain], profile, [Step(kind="spatial", settings={"solid": s})], 0)[40:-40, 40:-40].std())
            for s in (0, 100)
        ]
        self.assertLess(flat_left[1], 0.95 * flat_left[0])
        self.assertLess(taken(frames[0], solid=100)[texture].std(), 1.05 * taken(frames[0])[texture].std())

    def test_a_second_pass_works_only_on_what_the_first_has_left(self) -> None:
        noisy, clean = shot_pair("quay", Camera(stops_under=3))
        profile = measure_noise(MemorySource(noisy)).profile
        once = result(noisy, profile, CHAIN, 2)
        twice = result(noisy, profile, [*CHAIN, Step(kind="spatial")], 2)
        self.assertLess((twice - once).std(), 0.25 * (once - noisy[2]).std())
        self.assertGreater(psnr(twice, clean[2]), psnr(once, clean[2]) - 0.5)

    def test_a_moving_thing_leaves_no_trail(self) -> None:
        """A bright block passes over a standing picture: behind it the merge is no worse than spatial alone."""
        for scene in ("quay", "cloth"):
            still = shot_pair(scene, Camera(noiseless=True), 640, 384, 2)[1][0][:160, :256]
            rng, truth = np.random.default_rng(9), [still.copy() for _ in range(11)]
            for n, frame in enumerate(truth):
                frame[50:110, 10 + 16 * n : 50 + 16 * n] = 0.9
            frames = [(f + rng.normal(0, 10 / CV_SCALE, f.shape)).astype(np.float32) for f in truth]
            steps = [Step(kind="temporal", settings={"frames": 5}), Step(kind="spatial")]
            chain, alone = (result(frames, white_profile(10), s, 5) - truth[5] for s in (steps, steps[1:]))
            for where in (np.s_[46:114, 10:88], np.s_[46:114, 132:210]):
                with self.subTest(scene=scene, where=where):
                    self.assertLess((chain[where] ** 2).mean(), (alone[where] ** 2).mean())
            near = np.s_[50:110, 60:88]
            self.assertLess(abs(float((chain - alone)[near].mean())) * CV_SCALE, 0.5)

    def test_flat_shadows_keep_their_level_and_the_picture_its_colours(self) -> None:
        """CIEDE2000 by colour-science, an independent implementation (Sharma, Wu, Dalal 2005)."""
        noisy, clean = shot_pair("dusk", Camera(stops_under=3), 480, 272, 7)
        profile = measure_noise(MemorySource(noisy)).profile
        out = [result(noisy, profile, CHAIN, n) for n in range(7)]
        # over all frames, so that the noise's own mean does not count
        change = np.mean([o - f for o, f in zip(out, noisy, strict=True)], axis=0)
        soft = cv2.GaussianBlur(clean[3], (0, 0), 8)
        dark = (soft.max(axis=2) < 0.25) & (soft.min(axis=2) > 0.04)
        self.assertGreater(dark.mean(), 0.2)
        self.assertLess(np.abs(change[dark].mean(axis=0)).max() * CV_SCALE, 0.3)
        low = [cv2.GaussianBlur(np.mean(f, axis=0), (0, 0), 12) for f in (out, noisy)]
        before, after = (colour.XYZ_to_Lab(colour.sRGB_to_XYZ(np.clip(f[::4, ::4], 0, 1))) for f in low)
        self.assertLess(float(np.mean(colour.delta_E(before, after, "CIE 2000"))), 0.3)

    def test_mix_is_exactly_linear(self) -> None:
        noisy, _ = shot_pair("quay", Camera(stops_under=3))
        profile = measure_noise(MemorySource(noisy)).profile
        full = result(noisy, profile, [Step(kind="spatial")], 1)
        part = result(noisy, profile, [Step(kind="spatial", mix=40)], 1)
        np.testing.assert_allclose(part, noisy[1] + 0.4 * (full - noisy[1]), atol=1e-6)

    def test_borders_keep_their_level(self) -> None:
        rng = np.random.default_rng(8)
        frames = [(0.3 + rng.standard_normal((96, 128, 3)) * 12 / CV_SCALE).astype(np.float32) for _ in range(5)]
        out = result(frames, white_profile(12), CHAIN, 2)
        for edge in (out[:6], out[-6:], out[:, :6], out[:, -6:]):
            self.assertLess(abs(float(edge.mean()) - 0.3) * CV_SCALE, 1.5)
