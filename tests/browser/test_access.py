"""Every page against WCAG 2.2 A and AA, as far as a machine can tell (axe-core's rules)."""

from __future__ import annotations

from django.conf import settings
from playwright.sync_api import expect

from tests.browser.case import BrowserCase

AXE = settings.BASE_DIR / "web" / "node_modules" / "axe-core" / "axe.min.js"
RUN = """async () => {
  const tags = ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa'];
  const found = await axe.run(document, { runOnly: { type: 'tag', values: tags } });
  return found.violations.flatMap(v => v.nodes.map(n => `${v.id}: ${n.html.slice(0, 140)}`));
}"""


class Access(BrowserCase):
    def check(self) -> None:
        self.page.wait_for_timeout(400)  # dialogs fade in and out, and what fades has no contrast of its own
        self.page.evaluate(AXE.read_text())  # no page of ours takes a script from elsewhere
        self.assertEqual("\n".join(self.page.evaluate(RUN)), "")

    def test_no_page_breaks_a_rule(self) -> None:
        page = self.page
        page.goto(self.live_server_url)
        expect(page.locator("main li img")).to_have_count(9)
        self.check()
        for dialog in ("Tolerances…", "From a folder…", "Written as…"):
            page.get_by_role("button", name=dialog).click()
            expect(page.locator("dialog[open]")).to_have_count(1)
            with self.subTest(dialog):
                self.check()
            page.keyboard.press("Escape")
            expect(page.locator("dialog[open]")).to_have_count(0)
        page.get_by_role("button", name="Table").click()
        self.check()
        page.get_by_role("button", name="Sheet").click()
        page.get_by_role("link", name="Renders").click()
        expect(page.get_by_role("heading", name="Queue")).to_be_visible()
        self.check()
        self.open_quay()
        self.measure()
        self.propose()
        self.picture_settled("")
        self.settings_of("spatial")
        page.get_by_text("Copy, presets, other shots").click()
        page.keyboard.press("w")
        for tab in ("Noise", "Scopes", "Look", "Overwork", "Stills"):
            page.get_by_role("tab", name=tab).click()
            with self.subTest(tab):
                self.check()
        page.locator('[data-finding="noise"] button').click()
        self.check()
        page.get_by_role("button", name="Propose", exact=True).click()
        expect(page.get_by_role("button", name="Make this plan")).to_be_enabled()
        self.check()
        page.keyboard.press("Escape")
        page.get_by_role("button", name="Render…").click()
        self.check()
        page.keyboard.press("Escape")
        page.get_by_role("button", name="Keys").click()
        self.check()
        page.goto(f"{self.live_server_url}/profiles")
        self.check()
