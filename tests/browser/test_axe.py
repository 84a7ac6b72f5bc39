"""axe-core on every page, in both themes: nothing of any impact is left."""

from axe_playwright_python.sync_playwright import Axe

from tests.browser.test_bench import BrowserTest

PAGES = (
    "", "recipes", "caches", "machines", "shots/keepers-kitchen?proof=9", "shots/keepers-kitchen/compare?proofs=9,10", "shots/keepers-kitchen/survey",
    "proofs/9/ladder", "proofs/9/budget", "proofs/9/match", "proofs/9/advice", "proofs/9/report", "shots/stairwell/sequences", "nothing/here",
)  # fmt: skip


class AxeOnEveryPage(BrowserTest):
    def found(self, where: str) -> list[tuple[str, str, str]]:
        violations = Axe().run(self.page).response["violations"]
        return [(where, one["id"], one["nodes"][0]["html"][:140]) for one in violations]

    def test_nothing_is_found_on_any_page_in_either_theme(self):
        left = []
        for address in PAGES:
            self.page.goto(self.program.address + address)
            self.page.wait_for_timeout(900)
            for paper in ("light", "dark"):
                self.page.evaluate(f"document.documentElement.dataset.paper = '{paper}'")
                self.page.wait_for_timeout(150)
                left += self.found(f"{address} {paper}")
        self.assertEqual(left, [])

    def test_nothing_is_found_in_what_opens_on_the_bench(self):
        page, left = self.page, []
        self.open("keepers-kitchen")
        page.locator("#stage").focus()
        for keys in ("jf", "l", "e", "gk", " ", "gq"):
            page.locator("#stage").focus()
            page.keyboard.type(keys)
            page.wait_for_timeout(500)
            left += self.found(f"after {keys!r}")
            if page.evaluate("Boolean(document.querySelector('dialog[open]'))"):
                page.keyboard.press("Escape")
        self.assertEqual(left, [])
