"""Trains the restorer of compressed footage on synthetic clips alone, and writes its weights as ONNX.

python training/compression.py clips FOLDER     codes and studies the clips (needs Yellow Clean)
python training/compression.py train FOLDER OUT.onnx   trains (needs torch and onnx)
"""

from __future__ import annotations

import sys
import time
from pathlib import Path

import numpy as np

WIDTH, HEIGHT, FRAMES = 448, 256, 7
CLIPS, SEED = 72, 41
CRFS = (26, 29, 32, 35, 38, 42)
PATCH, BATCH, ROUNDS = 48, 16, 9000
CHANNELS, KERNELS, LAYERS = 25, 40, 6
LUMA_SHARE = 0.75


def make_clips(folder: Path) -> None:
    """Inputs, scale, classical result and truth of the middle frames of each clip."""
    from benchmarks.clips import Clip, coded, described
    from benchmarks.faulty import Held, h264
    from training.deadleaves import clip
    from yellowclean.engine.frames import Region, extended
    from yellowclean.engine.noise.profile import white_profile
    from yellowclean.engine.pipeline import Footage, Pipeline
    from yellowclean.engine.plan import Plan, Step
    from yellowclean.engine.testcamera import Camera
    from yellowclean.engine.treat import _restorer
    from yellowclean.engine.treat.base import Picture, Window
    from yellowclean.engine.treat.compression import _planes, need, studied

    folder.mkdir(parents=True, exist_ok=True)
    whole = Region(0, 0, WIDTH, HEIGHT)
    for k in range(CLIPS):
        rng = np.random.default_rng((SEED, k))
        if k % 6 == 5:
            scene = ("quay", "cloth")[k // 6 % 2]
            size = {"frames": FRAMES, "width": WIDTH, "height": HEIGHT}
            frames = Clip(scene, Camera(noiseless=True, bayer=bool(k % 4)), **size).truth  # type: ignore[arg-type]
        else:
            frames = clip(1000 * SEED + k, HEIGHT, WIDTH, FRAMES)
        options = {"preset": str(rng.choice(["fast", "medium", "slow"]))}
        if rng.random() < 0.2:
            options["x264-params"] = "no-deblock=1"
        seen, info, errors = coded(frames, described(FRAMES, WIDTH, HEIGHT), h264(CRFS[k % len(CRFS)], **options))
        plan = Plan(profile=white_profile(1.0), steps=[Step(kind="compression")])
        pipeline = Pipeline(Footage(Held(seen, info, errors)), plan)
        p, around = plan.steps[0].parameters, pipeline.around
        given = pipeline.formats[0]
        place = whole.grown(need(p).margin).snapped(need(p).grid)
        kept = []
        for n in (2, 3, 4):
            pictures = {m: Picture.untouched(extended(seen[m], whole, place)) for m in range(FRAMES)}
            window = Window(
                n, given, given, place, pictures[n], whole,
                tuple(m for m in range(n - p.frames, n + p.frames + 1) if m != n), pictures.__getitem__,
            )  # fmt: skip
            study = studied(p, window, around)
            if study is None:
                continue
            inside = whole.within(study.core).slices
            true = _planes(frames[n])
            arrays = [
                a[..., inside[0], inside[1]] for a in (study.before, *study.beside, study.cleared, study.error)
            ]
            here, before, after, cleared, error = arrays
            scale = _restorer.unit(error)
            wanted = (_restorer.apart(true) - _restorer.apart(cleared)) / scale
            kept.append(
                (
                    _restorer.inputs(here, (before, after), cleared, error).astype(np.float16),
                    np.clip(wanted, -8, 8).astype(np.float16),
                )
            )
        if kept:
            seen_, wanted_ = (np.stack(part) for part in zip(*kept, strict=True))
            np.savez(folder / f"{k:03d}.npz", seen=seen_, wanted=wanted_)
        print(
            f"clip {k + 1} of {CLIPS}: crf {CRFS[k % len(CRFS)]}, left {float(np.mean(wanted_[:, :4].astype(np.float32) ** 2)):.3f} errors²",
            flush=True,
        )


def train(folder: Path, target: Path) -> None:
    import torch
    from torch import nn

    torch.manual_seed(SEED)
    torch.set_num_threads(2)
    layers: list[nn.Module] = [nn.Conv2d(CHANNELS, KERNELS, 3, padding=1)]
    for _ in range(LAYERS - 2):
        layers += [nn.ReLU(), nn.Conv2d(KERNELS, KERNELS, 3, padding=1)]
    layers += [nn.ReLU(), nn.Conv2d(KERNELS, 6, 3, padding=1)]
    net = nn.Sequential(*layers)
    nn.init.zeros_(layers[-1].weight)
    nn.init.zeros_(layers[-1].bias)
    print(sum(w.numel() for w in net.parameters()), "weights")
    clips = [np.load(file) for file in sorted(folder.glob("*.npz"))]
    pairs = [(c["seen"], c["wanted"]) for c in clips]
    held, pairs = pairs[::12], [pair for k, pair in enumerate(pairs) if k % 12]
    weights = torch.tensor([LUMA_SHARE / 4] * 4 + [(1 - LUMA_SHARE) / 2] * 2).view(1, 6, 1, 1)
    optimiser = torch.optim.Adam(net.parameters(), 1e-3)
    rounds = int(sys.argv[4]) if len(sys.argv) > 4 else ROUNDS
    schedule = torch.optim.lr_scheduler.OneCycleLR(optimiser, 2e-3, rounds)
    rng = np.random.default_rng(SEED)
    started, running = time.time(), 0.0
    for count in range(rounds):
        seen, wanted = [], []
        for _ in range(BATCH):
            a, b = pairs[rng.integers(len(pairs))]
            n, y, x = rng.integers(len(a)), rng.integers(a.shape[2] - PATCH), rng.integers(a.shape[3] - PATCH)
            seen.append(a[n, :, y : y + PATCH, x : x + PATCH])
            wanted.append(b[n, :, y : y + PATCH, x : x + PATCH])
        told, true = (torch.from_numpy(np.stack(v).astype(np.float32)) for v in (seen, wanted))
        loss = (weights * (net(told) - true) ** 2).sum(1).mean()
        optimiser.zero_grad()
        loss.backward()
        optimiser.step()
        schedule.step()
        running += 0.01 * (float(loss) - running) if count else float(loss)
        if count % 500 == 499:
            with torch.no_grad():
                before, after = np.zeros(2), np.zeros(2)
                for a, b in held:
                    true = torch.from_numpy(b[1:2].astype(np.float32))
                    made = net(torch.from_numpy(a[1:2].astype(np.float32)))
                    for part, (low, high) in enumerate(((0, 4), (4, 6))):
                        before[part] += float((true[:, low:high] ** 2).mean())
                        after[part] += float(((made - true)[:, low:high] ** 2).mean())
            gain = -10 * np.log10(after / before)
            print(
                f"{count + 1}: loss {running:.4f}, held out luma {gain[0]:+.3f} dB, colour {gain[1]:+.3f} dB, {time.time() - started:.0f} s",
                flush=True,
            )
            torch.onnx.export(
                net,
                (torch.zeros(1, CHANNELS, 64, 64),),
                str(target),
                input_names=["seen"],
                output_names=["change"],
                dynamic_axes={"seen": {2: "h", 3: "w"}, "change": {2: "h", 3: "w"}},
                dynamo=False,
            )


if __name__ == "__main__":
    if sys.argv[1] == "clips":
        make_clips(Path(sys.argv[2]))
    else:
        train(Path(sys.argv[2]), Path(sys.argv[3]))
