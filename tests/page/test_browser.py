"""The page in a real browser, on a phone's width: it shows what goes on, and a push is started again by a finger's tap."""

import shutil
import unittest

from direkt.page import serve
from direkt.watch.tracker import FeedState
from tests.page.test_page import ACT, LOOK, Served, board, event, feed

BROWSER = next((path for name in ("chromium", "chromium-browser", "google-chrome") if (path := shutil.which(name))), None)


@unittest.skipUnless(BROWSER, "no browser is installed here")
class Browser(Served):
    @classmethod
    def setUpClass(cls):
        from playwright.sync_api import sync_playwright

        cls.driver = sync_playwright().start()
        cls.addClassCleanup(cls.driver.stop)
        cls.browser = cls.driver.chromium.launch(executable_path=BROWSER, args=["--no-sandbox"])
        cls.addClassCleanup(cls.browser.close)

    def open(self, token, width=390, height=844):
        context = self.browser.new_context(viewport={"width": width, "height": height}, has_touch=True)
        self.addCleanup(context.close)
        page = context.new_page()
        self.said, self.asked = [], []
        page.on("console", lambda message: self.said.append(message.text))
        page.on("pageerror", lambda error: self.said.append(str(error)))
        page.on("request", lambda request: self.asked.append(request.url))
        page.goto(f"{self.base}/#token={token}")
        return page

    def test_on_a_phone_a_drop_is_seen_and_mended(self):
        two = (feed(), feed("roof", text="<img src=x onerror=alert(1)>"))
        self.hub.publish(board(two, at=1.8e9 + 3))
        page = self.open(ACT)
        page.wait_for_selector("[data-feed=finish]")
        self.assertNotIn("token", page.url)  # it does not stay in the address
        self.assertIn("6.1 Mbit/s, 1920x1080, 50 fps", page.inner_text("[data-feed=finish]"))
        self.assertIn("<img src=x", page.inner_text("[data-feed=roof]"))  # text is text
        self.assertIn("81 °C is hot", page.inner_text("#warnings"))
        self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth"), 390)
        self.hub.publish(board((feed(state=FeedState.DROPPED, text="the server refuses"), two[1]), at=1.8e9 + 10))
        page.wait_for_selector("[data-feed=finish].s-dropped")
        self.assertIn("the server refuses", page.inner_text("[data-feed=finish]"))
        asked = []
        page.on("dialog", lambda dialog: (asked.append(dialog.message), dialog.accept() if len(asked) > 1 else dialog.dismiss()))
        for _ in range(2):  # the first time the person thinks better of it
            page.tap("[data-feed=finish] button.restart")
        page.wait_for_timeout(200)
        self.assertEqual(self.acts, [("restart", "finish")])
        self.assertIn("This interrupts what viewers see", asked[0])
        page.reload()  # the cookie lets it in again
        page.wait_for_selector("[data-feed=finish]")
        self.assertEqual(page.evaluate("document.cookie"), "")  # no script reads it
        self.assertTrue(all(url.startswith((self.base, "data:")) for url in self.asked), self.asked)
        self.assertEqual([text for text in self.said if "favicon" not in text], [])

    def test_it_is_changed_in_place_and_what_is_old_is_never_green(self):
        page = self.open(ACT)
        page.wait_for_selector("[data-feed=finish]")
        self.assertIn("look at what is below", page.inner_text("#link"))
        page.evaluate("window.kept = document.querySelector('[data-feed=finish] button.stop'); window.kept.focus()")
        for n in range(4):
            self.hub.publish(board((feed(kbit_s=6000.0 + 100 * n), feed("roof", FeedState.DROPPED)), at=1.8e9 + 3 + 2 * n))
            page.wait_for_timeout(100)
        self.assertTrue(page.evaluate("window.kept === document.activeElement && window.kept === document.querySelector('[data-feed=finish] button.stop')"))
        self.assertEqual(page.locator("article").first.get_attribute("data-feed"), "roof")  # the worst comes first
        sizes = page.evaluate("[...document.querySelectorAll('button:not([hidden])')].map((b) => [b.offsetWidth, b.offsetHeight])")
        self.assertTrue(sizes and all(w >= 44 and h >= 44 for w, h in sizes), sizes)
        page.tap(".warning button.seen")
        page.wait_for_timeout(200)
        self.assertEqual(self.acts, [("seen", "hot tower")])
        page.evaluate("latest -= 15000")  # nothing came for a while
        page.wait_for_timeout(1300)
        self.assertIn("as of 00:1", page.inner_text("#as-of"))
        self.assertIn("does not answer", page.inner_text("#link"))
        self.assertEqual(page.get_attribute("#link", "class"), "fail")
        self.hub.publish(board(at=1.8e9 + 30))
        page.wait_for_selector("body:not(.stale)")

    def test_it_finds_the_watch_again_after_a_restart(self):
        page = self.open(LOOK)
        page.wait_for_selector("[data-feed=finish]")
        self.stack.close()  # the watch ends
        page.wait_for_timeout(500)
        page.evaluate("latest -= 10000")
        page.wait_for_selector("body.stale")
        with serve.serve(self.hub, self.doors, lambda what, name: "", "127.0.0.1", self.port, None):
            self.hub.publish(board(at=1.8e9 + 60))
            page.wait_for_selector("body:not(.stale)", timeout=15000)
            self.assertEqual(page.inner_text("#as-of"), "")

    def test_who_only_looks_has_no_buttons_and_others_are_told_why(self):
        page = self.open(LOOK, 1280, 800)
        page.wait_for_selector("[data-feed=finish]")
        self.assertEqual(page.locator("button").count(), 0)
        self.assertEqual(page.get_attribute("#events a", "href"), event().watch)
        wrong = self.open("varn~fake~wrong")
        wrong.wait_for_selector("#link.fail")
        self.assertIn("this link is not right", wrong.inner_text("#link"))
        self.assertEqual(wrong.locator(".feed").count(), 0)

    def test_now_on_a_phone(self):
        self.hub.publish(board(events=(), at=1.8e9 + 3))
        page = self.browser.new_page()
        self.addCleanup(page.close)
        page.goto(f"{self.base}/now")
        self.assertIn("The <b>final</b>", page.inner_text("main"))


if __name__ == "__main__":
    unittest.main()
