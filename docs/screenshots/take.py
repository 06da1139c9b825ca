"""Takes the pictures in this folder from a running `make demo`: .venv/bin/python docs/screenshots/take.py"""

from __future__ import annotations

import re
import sys
from pathlib import Path

from playwright.sync_api import Locator, Page, expect, sync_playwright

HERE = Path(__file__).parent
ADDRESS = sys.argv[1] if len(sys.argv) > 1 else "http://127.0.0.1:8000"
PATIENCE = 120_000


def settled(page: Page) -> None:
    """Wait until the picture is there and nothing computes."""
    expect(page.locator("canvas[data-shown]")).to_be_visible(timeout=PATIENCE)
    page.wait_for_timeout(400)
    expect(page.get_by_text("computing …")).to_have_count(0, timeout=PATIENCE)
    page.wait_for_timeout(300)


def keep(page: Page, name: str) -> None:
    expect(page.get_by_title("Being measured in the result")).to_have_count(0, timeout=PATIENCE)
    page.screenshot(path=str(HERE / f"{name}.png"))


def propose(page: Page) -> None:
    """Accept what is proposed, unless there is a plan."""
    if not page.locator("[data-step]").count():
        page.get_by_role("button", name="Propose", exact=True).click()
        page.get_by_role("button", name="Make this plan").click()
        page.wait_for_selector("[data-step]")


def settings(page: Page, kind: str) -> Locator:
    """The settings of a step, opened."""
    page.locator(f"[data-step={kind}] button[aria-expanded=false]").first.click()
    return page.locator(f"[data-settings={kind}]")


def open_step(page: Page, shot: str, kind: str, show: str) -> Locator:
    """The settings of a step in the proposal for a shot, with what its button shows."""
    page.get_by_role("link", name=shot, exact=True).click()
    settled(page)
    propose(page)
    step = settings(page, kind)
    step.get_by_role("button", name=show).click()
    settled(page)
    return step


def take_repairs(page: Page) -> None:
    """Moiré before and after."""
    open_step(page, "q9_048_drying_jacket", "moire", "Show false colour")
    page.get_by_role("button", name="Result", exact=True).click()
    page.get_by_role("button", name="Wipe", exact=True).click()
    page.get_by_label("Zoom").select_option("200")
    settled(page)
    for _ in range(10):
        page.get_by_role("slider", name="Wipe").press("ArrowLeft")
    settled(page)
    keep(page, "bench-moire")
    page.get_by_label("Zoom").select_option("fit")
    page.get_by_role("link", name="All shots").click()


def reel(page: Page) -> None:
    """The timeline's job: its table, its queue, and the note of what was written."""
    page.goto(ADDRESS)
    page.get_by_role("link", name="Quay Nine, scene 4").click()
    page.get_by_role("button", name="Table").click()
    table = page.get_by_test_id("shot-table")
    expect(table.locator("tbody tr")).to_have_count(12)
    measure = page.get_by_role("button", name="Measure")
    if measure.first.is_enabled():
        measure.first.click()
    expect(page.get_by_text("12 shots, 12 measured")).to_be_visible(timeout=8 * PATIENCE)
    for name in ("q9_116_figurehead", "q9_131_cranes"):
        page.get_by_label(f"Choose {name}", exact=True).check()
    page.get_by_role("button", name="Propose", exact=True).click()
    page.get_by_text("2 plans made.").locator("..").get_by_role("button", name="Close").click()
    page.get_by_role("button", name="Judge", exact=True).click()
    expect(table.locator("tbody td[title]", has_text=re.compile("fine|look here|too far"))).to_have_count(2)
    keep(page, "jobs-table")
    page.get_by_role("button", name="Render in 2 formats").click()
    page.get_by_text("4 renders queued").wait_for()
    page.get_by_role("link", name="Renders").click()
    expect(page.get_by_test_id("written").locator("tbody tr")).to_have_count(2, timeout=4 * PATIENCE)
    page.wait_for_timeout(3000)
    keep(page, "renders")
    expect(page.get_by_test_id("written").locator("tbody tr")).to_have_count(4, timeout=4 * PATIENCE)
    number = page.url.split("/jobs/")[1].split("/")[0]
    shots = page.request.get(f"{ADDRESS}/api/jobs/{number}/shots").json()
    asked = "&".join(f"shot_id={shot['id']}" for shot in shots if shot["render"])
    page.goto(f"{ADDRESS}/api/jobs/{number}/note?{asked}")
    page.screenshot(path=str(HERE / "note.png"))


def take(page: Page) -> None:
    page.set_default_timeout(PATIENCE)
    expect.set_options(timeout=PATIENCE)
    page.goto(ADDRESS)
    page.wait_for_selector("main li img")
    measure = page.get_by_role("button", name="Measure all")
    if measure.is_visible() and measure.is_enabled():
        measure.click()
    expect(page.locator(".figure", has_text="5").nth(1)).to_be_visible(timeout=PATIENCE)
    expect(page.get_by_text("waiting to be measured")).to_have_count(0, timeout=5 * PATIENCE)
    expect(page.locator("progress[aria-label=Measuring]")).to_have_count(0, timeout=PATIENCE)
    page.wait_for_timeout(1500)
    page.get_by_label("Order").select_option("worst")
    page.wait_for_function("() => [...document.images].every(i => i.complete && i.naturalWidth)")
    page.wait_for_timeout(500)
    keep(page, "jobs")
    take_repairs(page)

    page.get_by_role("link", name="q9_016_figurehead", exact=True).click()
    settled(page)
    page.keyboard.press("End")
    settled(page)
    keep(page, "bench-source")
    if page.get_by_label("Propose by").locator("option").count() < 2:
        page.get_by_label("Name of the noise profile").fill("Test camera, ISO 3200")
        page.get_by_role("button", name="Save profile").click()
    page.get_by_role("button", name="Propose", exact=True).click()
    expect(page.get_by_role("button", name="Make this plan")).to_be_enabled()
    page.wait_for_timeout(600)
    keep(page, "bench-proposal")
    page.keyboard.press("Escape")
    propose(page)
    expect(page.locator("[data-after=noise]")).to_be_visible()
    page.keyboard.press("Home")
    for _ in range(24):
        page.keyboard.press("ArrowRight")
    page.keyboard.press("7")
    page.get_by_role("button", name="Wipe", exact=True).click()
    settled(page)
    keep(page, "bench-result-wipe")
    page.get_by_role("button", name="Wipe", exact=True).click()
    page.get_by_role("button", name="Removed").click()
    page.get_by_label("Zoom").select_option("200")
    settled(page)
    keep(page, "bench-removed")
    page.get_by_label("Zoom").select_option("fit")
    page.keyboard.press("7")
    reach_and_grain(page)
    sharpening(page)
    judging(page)
    page.get_by_role("button", name="Render…").click()
    page.get_by_label("Last frame").fill("11")
    if not page.locator("[data-render=done]").count():
        page.get_by_role("button", name="Start render").click()
    expect(page.locator("[data-render=done]").first).to_be_visible(timeout=PATIENCE)
    page.wait_for_timeout(800)
    keep(page, "render-dialog")
    page.goto(f"{ADDRESS}/profiles")
    page.wait_for_selector("table")
    keep(page, "profiles")
    reel(page)


def judging(page: Page) -> None:
    """Two sides beside one another under a look, scopes, overwork, and a loop against a still; all undone after."""
    tab = page.get_by_role("tablist", name="Evidence").get_by_role("tab")
    page.keyboard.press("7")
    settled(page)
    tab.filter(has_text="Scopes").click()
    converting(page)
    page.get_by_role("button", name="Beside").click()
    tab.filter(has_text="Look").click()
    page.get_by_label("Exposure", exact=True).fill("1.2")
    page.keyboard.press("Enter")
    page.get_by_label("Contrast", exact=True).fill("1.3")
    page.keyboard.press("Enter")
    settled(page)
    keep(page, "bench-look")
    page.get_by_role("button", name="Inset").click()
    page.locator("canvas[data-shown]").click(position={"x": 300, "y": 420})
    page.wait_for_timeout(1500)
    page.get_by_test_id("inset").get_by_role("button", name="Close").click()
    page.get_by_role("button", name="Beside").click()
    page.get_by_role("button", name="Reset Exposure to 0 stops").click()
    page.get_by_role("button", name="Reset Contrast to 1 ×").click()
    page.wait_for_timeout(500)
    page.get_by_label("Under the look", exact=True).uncheck()
    tab.filter(has_text="Overwork").click()
    page.get_by_role("button", name="Judge this frame").click()
    expect(page.locator("[data-verdict]")).to_be_visible()
    page.locator("[data-measure=structure] button").click()
    settled(page)
    keep(page, "bench-overwork")
    page.locator("[data-measure=structure] button").click()
    tab.filter(has_text="Stills").click()
    page.get_by_role("button", name="Keep still").click()
    page.locator("[data-still] button").first.click()
    page.keyboard.press("1")
    for _ in range(7):
        page.keyboard.press("ArrowRight")
    page.keyboard.press("2")
    expect(page.get_by_test_id("loop")).to_contain_text("8/8")
    settled(page)
    page.get_by_role("button", name="Give up the loop").click()
    page.locator("[data-still]").get_by_role("button", name="Delete").click()
    page.get_by_role("button", name="Wipe", exact=True).click()
    tab.filter(has_text="Noise").click()


def converting(page: Page) -> None:
    """A conversion into HDR: its numbers, the waveform in light, and chromaticities; undone after."""
    page.get_by_label("Treatment to add").select_option("convert")
    page.get_by_role("button", name="Add step").click()
    step = page.locator("[data-settings=convert]")
    step.get_by_label("To", exact=True).select_option("Rec.2100-PQ - Display")
    expect(page.get_by_test_id("scopes")).to_contain_text("Light in cd/m²")
    page.wait_for_timeout(1500)
    settled(page)
    keep(page, "bench-convert")
    page.get_by_label("Scope", exact=True).select_option("gamut-xy")
    page.wait_for_timeout(1500)
    settled(page)
    keep(page, "bench-gamut")
    step.get_by_role("button", name="Remove", exact=True).click()
    page.get_by_label("Scope", exact=True).select_option("waveform")
    settled(page)


def sharpening(page: Page) -> None:
    """Source and sharpened result, wiped at 200 %; undone after."""
    page.get_by_label("Treatment to add").select_option("sharpen")
    page.get_by_role("button", name="Add step").click()
    step = page.locator("[data-settings=sharpen]")
    expect(step).to_be_visible()
    page.get_by_label("Zoom").select_option("200")
    page.get_by_role("button", name="Wipe", exact=True).click()
    settled(page)
    keep(page, "bench-sharpen")
    step.get_by_role("button", name="Remove", exact=True).click()
    page.get_by_role("button", name="Wipe", exact=True).click()
    page.get_by_label("Zoom").select_option("fit")
    settled(page)


def reach_and_grain(page: Page) -> None:
    """The matte of a step with a sampled colour and a shape, and the controls of grain; all undone after."""
    reach = settings(page, "spatial").get_by_test_id("reach")
    settled(page)
    box = page.locator("canvas[data-shown]").bounding_box() or {"width": 0, "height": 0}
    reach.get_by_role("button", name="Add a colour").click()
    page.locator("canvas[data-shown]").click(position={"x": box["width"] * 0.4, "y": box["height"] * 0.5})
    expect(reach.get_by_test_id("hue")).to_be_visible()
    reach.get_by_role("button", name="Ellipse").click()
    reach.get_by_role("button", name="Show matte").click()
    reach.scroll_into_view_if_needed()
    page.wait_for_timeout(1500)
    settled(page)
    keep(page, "bench-reach")
    for _ in range(2):
        page.get_by_role("button", name="Undo").click()
    page.keyboard.press("7")
    page.get_by_role("button", name="Test strip").click()
    expect(page.get_by_text("suggested stop")).to_be_visible()
    page.wait_for_function("() => [...document.querySelectorAll('[data-testid=strip] img')].every(i => i.complete)")
    page.wait_for_timeout(500)
    keep(page, "bench-strip")
    page.keyboard.press("Escape")
    page.get_by_label("Treatment to add").select_option("grain")
    page.get_by_role("button", name="Add step").click()
    page.get_by_label("Zoom").select_option("200")
    page.wait_for_timeout(1500)
    settled(page)
    keep(page, "bench-grain")
    page.get_by_role("button", name="Remove", exact=True).click()
    page.get_by_label("Zoom").select_option("fit")
    settled(page)


def main() -> None:
    with sync_playwright() as playwright:
        flags = ["--no-sandbox", "--disable-gpu", "--disable-background-networking"]
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=flags)
        take(browser.new_page(viewport={"width": 1280, "height": 800}))
        browser.close()


if __name__ == "__main__":
    main()
