"""The pages in a real browser: by mouse, by keyboard alone, without scripts, on a phone, and read by axe-core."""

from __future__ import annotations

import os
import re
import shutil
import sys
from collections.abc import Callable, Iterator
from datetime import date, timedelta
from pathlib import Path
from typing import Any

import pytest

from tests.web.conftest import FOLLOW, LEND, Site
from tests.web.test_desk_and_board import SETTINGS, link
from tests.web.test_desk_and_board import pages as pages

pytestmark = pytest.mark.soak
MakeSite = Callable[..., Site]
CHROMIUM = shutil.which("chromium") or ""
AXE = Path(sys.prefix) / "axe/node_modules/axe-core/axe.min.js"
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--disable-dev-shm-usage",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--no-proxy-server",
]
OUT = date.today() + timedelta(days=40)


@pytest.fixture(scope="module")
def browser() -> Iterator[Any]:
    missing = [name for name, there in (("chromium", CHROMIUM), ("axe-core", AXE.exists())) if not there]
    if missing:
        assert not os.environ.get("CI"), f"{missing} cannot be had"
        pytest.skip(f"{' AND '.join(missing).upper()} MISSING: nothing was tried in a browser (make soak gets them)")
    from playwright.sync_api import sync_playwright

    with sync_playwright() as playwright:
        opened = playwright.chromium.launch(executable_path=CHROMIUM, headless=True, args=FLAGS)
        yield opened
        opened.close()


def page_of(browser: Any, **more: Any) -> Any:
    page = browser.new_context(viewport={"width": 1280, "height": 800}, **more).new_page()
    page.set_default_timeout(10_000)
    return page


def fill(page: Any, **fields: str) -> None:
    given = {"Name": "Joana", "Your e-mail address": "joana@example.org", "Out": f"{OUT}", "Back": f"{OUT}", **fields}
    for label, text in given.items():
        page.get_by_label(label).fill(text)


def violations(page: Any) -> list[str]:
    page.evaluate(AXE.read_text())
    found: list[str] = page.evaluate(
        "axe.run().then(r => r.violations.map(v => v.id + ': ' + v.nodes.map(n => n.html).join(' | ')))"
    )
    return found


@pytest.mark.parametrize("scripts", [True, False])
def test_right_wrong_and_twice(site: MakeSite, browser: Any, scripts: bool) -> None:
    here = site(lend=LEND, form='notice = "2 days"').watch()
    page = page_of(browser, java_script_enabled=scripts)
    page.goto(f"{here.url}/lending")
    page.get_by_role("button", name="Send").click()
    assert "4 answers need another look" in page.inner_text("main")
    assert page.url == f"{here.url}/lending"
    fill(page, Out=f"{date.today()}")
    page.get_by_role("button", name="Send").click()
    assert "This is too soon" in page.inner_text("main")
    assert page.get_by_label("Name").input_value() == "Joana"
    page.get_by_label("Out").fill(f"{OUT}")
    page.get_by_label("Back").fill(f"{OUT + timedelta(days=2)}")
    page.get_by_label("at school").check()
    page.get_by_role("button", name="Send").dblclick(no_wait_after=True)
    page.wait_for_url(re.compile("/lending/1-"))
    assert "yours for these days" in page.inner_text("main")
    events = here.desk.run("agenda", "loans", "--from", f"{OUT}", "--json").json["events"]
    assert len(events) == 1


def test_a_form_that_closes_while_somebody_is_typing(site: MakeSite, browser: Any) -> None:
    here = site(lend=LEND, form="limit = 1").watch()
    page = page_of(browser)
    page.goto(f"{here.url}/lending")
    assert here.send().status_code == 303
    fill(page, Out=f"{OUT}", Back=f"{OUT + timedelta(days=1)}")
    page.get_by_role("button", name="Send").click()
    assert "All 1 places are taken" in page.inner_text("main")


def test_by_keyboard_alone(site: MakeSite, browser: Any) -> None:
    here = site(follow=FOLLOW).watch()
    page = page_of(browser, locale="en-GB")
    page.goto(f"{here.url}/lending")
    keyboard = page.keyboard
    for _ in range(40):
        keyboard.press("Tab")
        label = page.evaluate("document.activeElement.labels?.[0]?.innerText.trim() ?? document.activeElement.tagName")
        if label == "BUTTON":
            break
        kind = page.evaluate("document.activeElement.type")
        text = {"Name": "Marta", "Your e-mail address": "marta@example.org"}.get(label)
        if kind == "radio":
            keyboard.press("Space")
        elif kind == "date":
            if not page.evaluate("document.activeElement.value"):
                keyboard.type(f"{OUT + timedelta(days=2 * (label == 'Back')):%d%m%Y}")
        elif text:
            keyboard.type(text)
    keyboard.press("Enter")
    page.wait_for_url(re.compile("/lending/1-"))
    assert "yours for these days" in page.inner_text("main")


@pytest.mark.parametrize("width", [320, 375])
def test_on_a_phone(site: MakeSite, browser: Any, width: int) -> None:
    here = site(follow=FOLLOW).watch()
    page = browser.new_context(viewport={"width": width, "height": 740}, has_touch=True, is_mobile=True).new_page()
    page.goto(f"{here.url}/lending")
    fill(page, Back=f"{OUT + timedelta(days=1)}")
    assert page.evaluate("document.documentElement.scrollWidth") <= width
    heights = page.evaluate(
        "[...document.querySelectorAll('input:not([type=hidden]):not([type=radio]), button')].map(e => e.offsetHeight)"
    )
    assert min(heights) >= 44
    page.get_by_role("button", name="Send").tap()
    page.wait_for_url(re.compile("/lending/1-"))
    assert page.evaluate("document.documentElement.scrollWidth") <= width


@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_axe_finds_nothing(site: MakeSite, browser: Any, scheme: str) -> None:
    here = site(follow=FOLLOW).watch()
    page = page_of(browser, color_scheme=scheme, bypass_csp=True)
    page.goto(f"{here.url}/lending")
    assert violations(page) == []
    page.get_by_role("button", name="Send").click()
    assert violations(page) == []
    fill(page, Back=f"{OUT + timedelta(days=1)}")
    page.get_by_role("button", name="Send").click()
    page.wait_for_url(re.compile("/lending/1-"))
    assert violations(page) == []
    page.get_by_role("link", name="change or withdraw").click()
    assert violations(page) == []


@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_the_desk_and_the_board_in_a_browser(pages: MakeSite, browser: Any, scheme: str) -> None:
    here = pages()
    assert SETTINGS
    page = page_of(browser, color_scheme=scheme)
    said: list[str] = []
    page.on("console", lambda message: said.append(message.text))
    page.on("pageerror", lambda error: said.append(str(error)))
    page.goto(here.url + link(here, "desk", "--link", "ines"))
    page.get_by_label("What is it, ines?").fill("anything tomorrow?")
    page.keyboard.press("Enter")
    page.locator("#said li.ours").first.wait_for()
    assert page.get_by_label("What is it, ines?").input_value() == ""
    page.goto(here.url + link(here, "--board", "ines"))
    assert "Ran today" in page.inner_text("main")
    assert said == []
    seen = page_of(browser, color_scheme=scheme, bypass_csp=True)
    for path in (link(here, "desk", "--link", "ines"), link(here, "--board", "ines")):
        seen.goto(here.url + path)
        assert violations(seen) == []


def test_the_desk_without_scripts(pages: MakeSite, browser: Any) -> None:
    here = pages()
    page = page_of(browser, java_script_enabled=False)
    page.goto(here.url + link(here, "desk", "--link", "ines"))
    page.get_by_label("What is it, ines?").fill("anything tomorrow?")
    page.get_by_role("button", name="Ask").click()
    assert page.locator("#said li.ours").count() == 1
