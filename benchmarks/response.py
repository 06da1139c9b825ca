"""How quickly the Bench answers, in headless Chromium against a server of its own."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
import time
from itertools import pairwise
from pathlib import Path
from statistics import median
from typing import Any
from urllib.error import URLError
from urllib.request import urlopen

from playwright.sync_api import Page, sync_playwright

from yellowclean.engine.testcamera import Camera, ShotRecipe, shoot

ROOT = Path(__file__).parent.parent
PORT = 8765
ADDRESS = f"http://127.0.0.1:{PORT}"
SHOTS = ("small", 960, 540), ("large", 1920, 1080)
FRAME_MS = 1000 / 60
CHROMIUM = "/usr/bin/chromium"

WORK = """async ([kind, times]) => {
  const out = [];
  const handle = document.querySelector('[aria-label=Wipe]');
  const box = handle?.getBoundingClientRect();
  const pointer = (type, x) => handle.dispatchEvent(new PointerEvent(type,
    { bubbles: true, clientX: x, clientY: 400, pointerId: 1, isPrimary: true, button: 0 }));
  if (kind === 'wipe') { handle.setPointerCapture = () => {}; pointer('pointerdown', box.x + 8); }
  for (let k = 0; k < times; k++) {
    const keys = { step: k % 20 < 10 ? 'ArrowRight' : 'ArrowLeft', view: '678'[k % 3] };
    const start = performance.now();
    if (kind === 'wipe') pointer('pointermove', box.x + 5 * (k % 20));
    else document.body.dispatchEvent(new KeyboardEvent('keydown', { key: keys[kind], bubbles: true }));
    await Promise.resolve(); await Promise.resolve();
    const script = performance.now() - start;
    await new Promise(done => requestAnimationFrame(() => setTimeout(done, 0)));
    out.push([script, performance.now() - start]);
    await new Promise(done => setTimeout(done, 100));
  }
  return out;
}"""
"""Milliseconds of each act: of script until all is drawn on the canvas, and until the browser has laid out, painted
and ended its next display frame."""


STAMPS = """seconds => new Promise(done => {
  const stamps = [], canvas = document.querySelector('canvas[data-shown]'), start = performance.now();
  const look = now => {
    if (stamps.at(-1)?.shown !== canvas.dataset.shown) stamps.push({ shown: canvas.dataset.shown, now });
    if (now - start < seconds * 1000) requestAnimationFrame(look); else done(stamps);
  };
  requestAnimationFrame(look);
})"""
"""What the canvas shows at each display frame, and when, where it changes."""


def prepared(folder: Path) -> dict[str, int]:
    """A job with a small and a 1920×1080 shot, both measured and proposed for; shot numbers by name."""
    os.environ["YELLOW_CLEAN_DATA"] = str(folder)
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "yellowclean.server.settings")
    import django  # noqa: PLC0415 (settings read the environment)

    django.setup()
    from django.core.management import call_command  # noqa: PLC0415

    from yellowclean.engine.media import open_source  # noqa: PLC0415
    from yellowclean.engine.survey import survey  # noqa: PLC0415
    from yellowclean.server.models import Job  # noqa: PLC0415
    from yellowclean.server.use_cases import add_shot, keep_survey, propose_version  # noqa: PLC0415

    call_command("migrate", verbosity=0)
    job = Job.objects.create(name="Quay Nine")
    shots = {}
    for name, width, height in SHOTS:
        recipe = ShotRecipe(
            name=name,
            scene="quay",
            width=width,
            height=height,
            frames=12,
            codec="ffv1",
            camera=Camera(stops_under=3),
        )
        shot = add_shot(job, shoot(recipe, folder / "footage"), name)
        keep_survey(shot, survey(open_source(shot.path)))
        propose_version(shot)
        shots[name] = shot.pk
    return shots


def shown(page: Page, old: str | None = None) -> str:
    """Wait until exact pictures other than `old` are shown, and say which."""
    page.wait_for_function(
        "old => ![undefined, old].includes(document.querySelector('canvas[data-shown]')?.dataset.shown)", arg=old
    )
    return str(page.evaluate("document.querySelector('canvas[data-shown]').dataset.shown"))


def answers(page: Page, kind: str, times: int = 40) -> str:
    script, whole = zip(*page.evaluate(WORK, [kind, times]), strict=True)
    late = sum(ms > 1.5 * FRAME_MS for ms in whole)
    return f"{median(script):.1f} | {max(script):.1f} | {median(whole):.1f} | {late} of {times}"


def filled(page: Page) -> None:
    """Wait until the loop is here."""
    page.wait_for_function("document.querySelector('[data-testid=loop]')?.innerText.includes('12/12')")


def warm(page: Page, shot: int) -> None:
    page.goto(f"{ADDRESS}/shots/{shot}")
    old = shown(page)
    page.keyboard.press("7")
    old = shown(page, old)
    page.keyboard.press("#")
    old = shown(page, old)
    page.keyboard.press("1")
    page.wait_for_timeout(1000)
    filled(page)
    for key in "687":
        page.keyboard.press(key)
        page.wait_for_timeout(1000)
        filled(page)
    print("| warm, 960×540, wiped | script ms, median | most | with the next frame | over 1.5 frames |")
    print("| --- | ---: | ---: | ---: | ---: |")
    for kind, name in (("step", "frame step"), ("wipe", "wipe drag"), ("view", "view change")):
        print(f"| {name} | {answers(page, kind)} |", flush=True)


def played(page: Page, frames: int = 12) -> None:
    """A loop that is here, source and result wiped: how many frames a second are shown, and how many left out."""
    page.keyboard.press(" ")
    stamps = page.evaluate(STAMPS, 6)[1:-1]
    page.keyboard.press(" ")
    numbers = [int(re.findall(r"[?&]n=(\d+)", stamp["shown"])[0]) for stamp in stamps]
    steps = [(b - a) % frames for a, b in pairwise(numbers)]
    rate = sum(steps) * 1000 / (stamps[-1]["now"] - stamps[0]["now"])
    left_out = sum(step - 1 for step in steps)
    print(
        f"\nA loop at 960×540, wiped: {rate:.2f} frames a second, {left_out} of {sum(steps)} left out.", flush=True
    )


def cold(page: Page, shot: int) -> None:
    page.goto(f"{ADDRESS}/shots/{shot}?frame=5")
    old = shown(page)
    page.locator("[data-after=noise]").wait_for()
    page.get_by_label("Zoom").select_option("100")
    old = shown(page, old)
    started = time.perf_counter()
    page.keyboard.press("7")
    page.get_by_text("coarse, computing …").wait_for()
    coarse = time.perf_counter() - started
    shown(page, old)
    exact = time.perf_counter() - started
    print(
        f"\nCold 1920×1080 frame, proposed plan, at 100 %: coarse after {coarse:.2f} s, exact after {exact:.2f} s."
    )


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        shots = prepared(Path(folder))
        command: list[Any] = [sys.executable, ROOT / "manage.py", "serve", "--port", str(PORT)]
        server = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        try:
            _wait_for_server()
            with sync_playwright() as playwright:
                browser = playwright.chromium.launch(
                    executable_path=CHROMIUM, args=["--no-sandbox", "--disable-gpu"]
                )
                page = browser.new_page(viewport={"width": 1280, "height": 800})
                page.set_default_timeout(120_000)
                warm(page, shots["small"])
                played(page)
                cold(page, shots["large"])
                browser.close()
        finally:
            server.terminate()
            server.wait()


def _wait_for_server() -> None:
    for _ in range(120):
        try:
            urlopen(f"{ADDRESS}/api/jobs").close()
            return
        except URLError:
            time.sleep(0.5)
    raise SystemExit("the server did not start")
