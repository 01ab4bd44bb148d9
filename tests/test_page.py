"""The page of an estate, opened from disk in a real browser without a screen."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
import unittest
from tempfile import TemporaryDirectory
from typing import Any

from tests.support import EstateTest

HOSTILE = """</script><script>document.title='hit'</script><img src=x onerror="document.title='hit'">&amp;'"` {{ 7*7 }} \\u202e"""
_CHROMIUM, _DRIVER = shutil.which("chromium"), shutil.which("chromedriver")


def browser(profile: str, dark: bool = False) -> Any:
    from selenium.webdriver import Chrome, ChromeOptions, ChromeService

    options = ChromeOptions()
    options.binary_location = _CHROMIUM or ""
    for word in (
        "--headless=new", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
        "--disable-component-update", "--disable-sync", "--window-size=1280,800", f"--user-data-dir={profile}",
        *(["--force-dark-mode", "--enable-features=WebContentsForceDark"] if dark else []),
    ):  # fmt: skip
        options.add_argument(word)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    return Chrome(options, ChromeService(_DRIVER))


class PageTest(EstateTest):
    forked = True

    def setUp(self) -> None:
        super().setUp()
        self.saltmarsh()
        self.page = self.top / "estate.html"

    def written(self, *words: str) -> str:
        ran = self.run_lane("report", str(self.page), *words)
        self.assertEqual(ran.code, 0, ran.err)
        return self.page.read_text()

    def test_it_names_nothing_outside_and_allows_nothing_but_its_own_script(self) -> None:
        text = self.written()
        policy = re.search(r'Content-Security-Policy" content="([^"]*)"', text)
        assert policy is not None
        self.assertIn("default-src 'none'", policy[1].replace("&#39;", "'"))
        self.assertNotIn("unsafe", policy[1])
        self.assertEqual(re.findall(r"""(?:src|href)=["'](?!#)([^"']*)""", text), [])
        self.assertNotRegex(text, r"""\son\w+=["']|style=["']|url\(|@import""")
        self.assertEqual(text.count("<script"), 2)
        for section in ("glance", "findings", "platforms", "people", "roles", "grants", "places", "verified", "changes", "successor"):
            self.assertIn(f'<section id="{section}">', text)
        self.assertIn("Roles are given to groups only.", text)

    def test_everybody_has_what_they_are_given(self) -> None:
        data = json.loads(re.search(r'id="data">(.*?)</script>', self.written(), re.DOTALL)[1])  # type: ignore[index]
        for login in ("imke.vos", "vik.sorrel", "svc-nightly", "odd.pilcher"):
            mine = next(person for person in data["people"] if person[0] == login)
            lines = {grant[6] for grant in data["grants"] if grant[0] in mine[3]}
            given = self.run_lane("given", login, "--format", "json").json
            told = {f"{one['file']}:{one['line']}" for one in given["bindings"]}
            self.assertEqual(lines, told, login)
        self.assertEqual(len(data["scopes"]), 86)

    def test_probe_and_changes_are_shown(self) -> None:
        result = self.top / "probe.json"
        told = {"platform": "buildyard", "people": 3, "asked": 4, "tried": 5, "kept_out": ["a"], "let_in": [], "shown_wrongly": [],
                "differences": [{"user": "u", "action": HOSTILE, "scope": "s", "declared": True, "says": None, "does": False}]}  # fmt: skip
        result.write_text(json.dumps(told))
        before = self.top / "before"
        shutil.copytree(self.folder, before)
        self.assertEqual(self.run_lane("withdraw", "log-reader", "--from", "group auditors", "--at", "fieldnet", "--yes").code, 0)
        text = self.written("--probe", str(result), "--since", str(before))
        self.assertIn("buildyard: 3 people, 4 asked, 5 tried; 2 differences", text)
        self.assertIn("136 lost", text)
        self.assertNotIn("<script>document", text)
        for content in ("", "[]", "{}", '{"differences": 3}', "[" * 5000):
            result.write_text(content)
            ran = self.run_lane("report", str(self.page), "--probe", str(result))
            self.assertEqual((ran.code, "is no result of probe" in ran.err), (2, True), content[:20])

    @unittest.skipUnless(_CHROMIUM and _DRIVER, "no chromium and chromedriver: apt install chromium chromium-driver")
    def test_in_a_browser_hostile_names_stay_names_and_the_keyboard_is_enough(self) -> None:
        from selenium.webdriver import Keys

        path = self.folder / "estate.yaml"
        path.write_text(path.read_text().replace("for: Buoys along", f"for: {json.dumps(HOSTILE)} #", 1))
        path = self.folder / "bindings" / "field.yaml"
        path.write_text(path.read_text().replace("because: ", f"because: {json.dumps(HOSTILE)} #", 1))
        ldif = self.folder / "people" / "saltmarsh.ldif"
        ldif.write_text(ldif.read_text().replace("cn: Imke Vos", f"cn: {HOSTILE}".replace(" \\u202e", ""), 1))
        self.written()
        with TemporaryDirectory() as profile:
            chrome = browser(profile)
            try:
                chrome.get(self.page.as_uri())
                self.assertEqual(chrome.title, "Saltmarsh Weather Service: who may do what")
                self.assertEqual(chrome.execute_script("return document.documentElement.dataset.ready"), "yes")
                self.assertEqual(chrome.execute_script("return performance.getEntriesByType('resource').length"), 0)
                self.assertEqual([entry for entry in chrome.get_log("browser") if entry["level"] == "SEVERE"], [])
                count = "return document.querySelector('#people .count').textContent"
                self.assertEqual(chrome.execute_script(count), "40 of 40")
                seen = [self.tabbed(chrome, Keys) for _ in range(40)]
                self.assertEqual(seen[0], "To the content")
                box = chrome.find_element("css selector", "#people input")
                self.assertIn("find-people", seen)
                box.send_keys("radar-crew otto")
                chrome.execute_async_script("setTimeout(arguments[0], 400)")
                self.assertEqual(chrome.execute_script(count), "1 of 40")
                summary = chrome.find_element("css selector", "#people summary")
                self.assertEqual(summary.text.split()[0], "otto.brandt")
                summary.send_keys(Keys.ENTER)
                chrome.execute_async_script("setTimeout(arguments[0], 200)")
                self.assertIn("station-keeper", chrome.find_element("css selector", "#people details table").text)
                box.clear()
                box.send_keys("imke")
                chrome.execute_async_script("setTimeout(arguments[0], 400)")
                self.assertIn("<img src=x", chrome.find_element("css selector", "#people summary").text)
                self.assertIn("{{ 7*7 }}", chrome.find_element("css selector", "header").text)
                chrome.execute_script("document.querySelectorAll('#places summary').forEach((s) => s.click())")
                self.assertNotIn("hit", chrome.title)
                self.assertEqual(chrome.execute_script("return document.images.length"), 0)
            finally:
                chrome.quit()

    @staticmethod
    def tabbed(chrome: Any, keys: Any) -> str:
        """What the next tab stop is."""
        chrome.switch_to.active_element.send_keys(keys.TAB)
        return str(chrome.execute_script("const e = document.activeElement; return e.id || e.textContent.trim()"))

    @unittest.skipUnless(_CHROMIUM, "no chromium: apt install chromium")
    def test_it_prints(self) -> None:
        self.written()
        printed = self.top / "page.pdf"
        with TemporaryDirectory() as profile:
            words = [_CHROMIUM or "", "--headless=new", "--no-sandbox", "--disable-gpu", f"--user-data-dir={profile}", f"--print-to-pdf={printed}"]
            subprocess.run([*words, self.page.as_uri()], check=True, capture_output=True)
        self.assertTrue(printed.read_bytes().startswith(b"%PDF"))
        self.assertGreater(len(printed.read_bytes()), 20_000)
