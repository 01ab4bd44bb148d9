"""The page of an estate in a real browser: `python -m benchmarks.page [PEOPLE]...`.

Writes estates with so many people, a tenth as many groups, five memberships a person and a quarter as many lines, runs
`justlane report`, opens the page in headless Chromium from disk, and measures from the start of the navigation until
the script has everything on the page.
"""

from __future__ import annotations

import shutil
import subprocess
import sys
import time
from pathlib import Path
from tempfile import TemporaryDirectory

from benchmarks import files


def main() -> None:
    """Print the table."""
    heads = ("people", "lines", "page in MB", "justlane report in s", "open in s", "look somebody up in s")
    print(f"| {' | '.join(heads)} |\n|{'---|' * len(heads)}")
    for people in [int(word) for word in sys.argv[1:]] or [5_000, 50_000]:
        print(measured(people), flush=True)


def measured(people: int) -> str:
    """One row of the table."""
    files.EXTENTS["page"] = files.Extent(people, people // 10, people * 5, people // 5, people // 4, 20)
    with TemporaryDirectory() as room:
        estate, page = Path(room) / "estate", Path(room) / "estate.html"
        files.write(estate, "page")
        began = time.perf_counter()
        subprocess.run([sys.executable, "-m", "justlane", "report", str(page), "--estate", str(estate)], check=True)
        written = time.perf_counter() - began
        opened, looked = in_browser(page, room)
        size = page.stat().st_size / 1e6
        return f"| {people:,} | {people // 4:,} | {size:.1f} | {written:.1f} | {opened:.2f} | {looked:.2f} |"


def in_browser(page: Path, room: str) -> tuple[float, float]:
    """Seconds until the page is there, and until somebody is found."""
    from selenium.webdriver import Chrome, ChromeOptions, ChromeService

    options = ChromeOptions()
    options.binary_location = shutil.which("chromium") or ""
    for word in ("--headless=new", "--no-sandbox", "--disable-gpu", f"--user-data-dir={room}/profile"):
        options.add_argument(word)
    chrome = Chrome(options, ChromeService(shutil.which("chromedriver")))
    try:
        chrome.get("about:blank")
        began = time.perf_counter()
        chrome.get(page.as_uri())
        while chrome.execute_script("return document.documentElement.dataset.ready") != "yes":
            time.sleep(0.01)
        opened = time.perf_counter() - began
        script = (
            "const done = arguments[0], box = document.querySelector('#people input'), began = performance.now();"
            "const count = document.querySelector('#people .count'), before = count.textContent;"
            "new MutationObserver(() => done(performance.now() - began)).observe(count, {childList: true});"
            "box.value = 'u123'; box.dispatchEvent(new Event('input'));"
        )
        return opened, float(chrome.execute_async_script(script)) / 1000
    finally:
        chrome.quit()


if __name__ == "__main__":
    main()
