"""How quickly the Bench answers, in headless Chromium against a server of its own."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
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
FRAME_MS = 1000 / 60
CHROMIUM = "/usr/bin/chromium"

WATCH_EVENTS = """() => {
  window.timings = [];
  new PerformanceObserver(list => window.timings.push(...list.getEntries().map(e => [e.name, e.duration])))
    .observe({ type: 'event', durationThreshold: 16, buffered: false });
}"""
"""From an input to the next picture on the display, as the browser's Event Timing tells it (steps of 8 ms)."""


def prepared(folder: Path) -> dict[str, int]:
    """A job with a small and a 1920×1080 shot, both measured and proposed for; shot numbers by name."""
    os.environ["YELLOW_CLEAN_DATA"] = str(folder)
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "yellowclean.server.settings")
    import django  # noqa: PLC0415 (settings read the environment)

    django.setup()
    from django.core.management import call_command  # noqa: PLC0415

    from yellowclean.engine.measure.survey import survey  # noqa: PLC0415
    from yellowclean.engine.media import open_source  # noqa: PLC0415
    from yellowclean.server.models import Job  # noqa: PLC0415
    from yellowclean.server.use_cases import add_shot, propose_version  # noqa: PLC0415

    call_command("migrate", verbosity=0)
    job = Job.objects.create(name="Quay Nine")
    shots = {}
    for name, width, height in (("small", 960, 540), ("large", 1920, 1080)):
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
        shot.survey = survey(open_source(shot.path)).model_dump(mode="json", by_alias=True)
        shot.save()
        propose_version(shot)
        shots[name] = shot.pk
    return shots


def shown(page: Page, old: str | None = None) -> str:
    """Wait until exact pictures other than `old` are shown, and say which."""
    page.wait_for_function(
        "old => ![undefined, old].includes(document.querySelector('canvas')?.dataset.shown)", arg=old
    )
    return str(page.evaluate("document.querySelector('canvas').dataset.shown"))


def answers(page: Page, act: Callable[[int], None], times: int = 40) -> str:
    page.evaluate("window.timings.length = 0")
    for k in range(times):
        act(k)
        page.wait_for_timeout(60)
    page.wait_for_timeout(200)
    durations = [duration for _, duration in page.evaluate("window.timings")]
    slow = [d for d in durations if d > 1.5 * FRAME_MS + 4]  # told in steps of 8 ms
    most = max(durations, default=0)
    return f"{len(slow)} of {times} | {most:.0f} | {median(durations) if durations else 0:.0f}"


def warm(page: Page, shot: int) -> None:
    page.goto(f"{ADDRESS}/shots/{shot}")
    old = shown(page)
    page.keyboard.press("7")
    old = shown(page, old)
    page.keyboard.press("#")
    old = shown(page, old)
    page.keyboard.press("1")
    page.wait_for_function("document.querySelector('[data-testid=loop]')?.innerText.includes('12/12')")
    page.evaluate(WATCH_EVENTS)
    print(
        "| with a warm cache, 960×540, wiped | over 1.5 display frames | longest ms | median of those over 16 ms |"
    )
    print("| --- | ---: | ---: | ---: |")
    print(
        "| frame step |",
        answers(page, lambda k: page.keyboard.press("ArrowRight" if k % 20 < 10 else "ArrowLeft")),
        "|",
    )
    handle = page.get_by_label("Wipe", exact=True).bounding_box()
    assert handle
    x, y = handle["x"] + 8, 400
    page.mouse.move(x, y)
    page.mouse.down()
    print("| wipe drag |", answers(page, lambda k: page.mouse.move(x + 5 * (k % 20), y)), "|")
    page.mouse.up()
    for key in "68":  # once, so that they are warm
        page.keyboard.press(key)
        page.wait_for_timeout(1500)
    print("| view change |", answers(page, lambda k: page.keyboard.press("678"[k % 3])), "|")


def cold(page: Page, shot: int) -> None:
    page.goto(f"{ADDRESS}/shots/{shot}?frame=5")
    old = shown(page)
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
