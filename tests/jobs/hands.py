"""Two ways of using the pages: by keys alone, and by the mouse. Both count what a person would do.

Nothing is done that a person could not do: a control is reached by the Tab key or by the pointer, or it is
not reached. A file is given by its path, which stands for the window of the system.
"""

from collections import Counter
from collections.abc import Callable

from selenium.common.exceptions import StaleElementReferenceException, WebDriverException
from selenium.webdriver.chrome.webdriver import WebDriver
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement
from selenium.webdriver.support.ui import Select

from tests.support import wait_for

MOST_TABS = 260
AREAS = {
    "Today": "t",
    "Customers": "c",
    "Rhythm": "y",
    "Segments": "s",
    "Messages": "m",
    "Campaigns": "a",
    "Sequences": "q",
    "Results": "r",
}
BEHIND = """
const at = document.activeElement, wanted = arguments[0];
return at !== document.body && !!(at.compareDocumentPosition(wanted) & Node.DOCUMENT_POSITION_PRECEDING);
"""
IN_MAIN = """
const main = document.querySelector("main"), at = document.activeElement, wanted = arguments[0];
return main.contains(wanted) && !main.contains(at) && !at.closest("dialog") && !wanted.closest("dialog");
"""


BESIDE = """
const rail = document.querySelector("main .rail"), at = document.activeElement;
const typing = at.matches("input, textarea, select, [contenteditable]:not([contenteditable='false'])");
return !!rail && !typing && rail.contains(arguments[0]) !== rail.contains(at) && rail.contains(arguments[0]);
"""


class NotReached(AssertionError):
    """A control that the Tab key does not come to."""


class Hands:
    """``did`` counts keys, clicks, fields typed and choices made."""

    name = ""
    code = ""
    """A code that a customer shows at the till."""

    def __init__(self, browser: WebDriver, address: str) -> None:
        self.browser, self.address, self.did = browser, address, Counter[str]()

    def find(self, css: str, words: str = "") -> WebElement:
        """The first that shows and holds the words, in its text or as its label."""

        def found() -> WebElement | None:
            for one in self.browser.find_elements(By.CSS_SELECTOR, css):
                said = f"{one.text} {one.get_attribute('aria-label') or ''}"
                if one.is_displayed() and words.lower() in said.lower():
                    return one
            return None

        try:
            return wait_for(found, 30)
        except AssertionError as problem:
            raise AssertionError(f"no “{words or css}” at {self.browser.current_url}") from problem

    def sees(self, words: str, css: str = "body") -> None:
        try:
            wait_for(lambda: words in self.browser.find_element(By.CSS_SELECTOR, css).text, 40)
        except AssertionError as problem:
            raise AssertionError(f"“{words}” does not show at {self.browser.current_url}") from problem

    def at(self, part: str) -> None:
        """Waits until the address holds it."""
        wait_for(lambda: part in self.browser.current_url, 40)

    def begin(self, path: str = "/") -> None:
        """Where a job begins; not counted."""
        self.browser.get(self.address + path)

    def file(self, css: str, path: str) -> None:
        self.browser.find_element(By.CSS_SELECTOR, css).send_keys(path)
        self.did["files chosen"] += 1

    def area(self, name: str) -> None:
        raise NotImplementedError

    def press(self, css: str, words: str = "") -> None:
        raise NotImplementedError

    def write(self, css: str, text: str, words: str = "") -> None:
        """In the place of what stands in a field."""
        raise NotImplementedError

    def choose(self, css: str, text: str) -> None:
        raise NotImplementedError

    def enter(self) -> None:
        ActionChains(self.browser).send_keys(Keys.ENTER).perform()
        self.did["keys"] += 1

    def again(self, act: Callable[[], None]) -> None:
        """Once more where the page put a fresh piece in the old one's place meanwhile."""

        def done() -> bool:
            act()
            return True

        wait_for(done, 30)


class Keyboard(Hands):
    """Tab, Shift and Tab, Enter, Space, arrows, letters; and the shortcuts that the help shows."""

    name = "keyboard"

    def key(self, *keys: str) -> None:
        ActionChains(self.browser).send_keys(*keys).perform()
        self.did["keys"] += len(keys)

    def area(self, name: str) -> None:
        self.browser.execute_script("document.activeElement.blur()")
        self.key("g", AREAS[name])
        wait_for(lambda: self.browser.execute_script("return document.readyState") == "complete")

    def reach(self, wanted: WebElement) -> None:
        script = self.browser.execute_script
        if script(IN_MAIN, wanted) and script("return document.activeElement === document.body"):
            self.key(Keys.TAB, Keys.ENTER)  # the link to the page
        if script(BESIDE, wanted):
            self.key(".")
        back = script(BEHIND, wanted)
        for _ in range(MOST_TABS):
            if self.is_there(wanted):
                return
            if back:
                ActionChains(self.browser).key_down(Keys.SHIFT).send_keys(Keys.TAB).key_up(
                    Keys.SHIFT
                ).perform()
            else:
                ActionChains(self.browser).send_keys(Keys.TAB).perform()
            self.did["keys"] += 1
        raise NotReached(f"{wanted.text or wanted.get_attribute('outerHTML')[:90]}")

    def is_there(self, wanted: WebElement) -> bool:
        at = self.browser.switch_to.active_element
        if at == wanted:
            return True
        # one of several round buttons is reached, the others by arrows
        kind, name = wanted.get_attribute("type"), wanted.get_attribute("name")
        return kind == "radio" and at.get_attribute("type") == "radio" and at.get_attribute("name") == name

    def reached(self, css: str, words: str = "") -> WebElement:
        """The control, with the keys on it; sought again where the page put a fresh piece in its place."""
        for _ in range(5):
            try:
                wanted = self.find(css, words)
                self.reach(wanted)
                return wanted
            except StaleElementReferenceException:
                continue
        raise NotReached(f"{words or css}: the page puts a fresh one in its place again and again")

    def press(self, css: str, words: str = "") -> None:
        wanted = self.reached(css, words)
        kind = wanted.get_attribute("type")
        if wanted.get_attribute("contenteditable") in ("true", "plaintext-only"):
            return  # the caret stands in it
        if kind == "radio":
            for _ in range(12):
                if self.browser.switch_to.active_element == wanted:
                    break
                self.key(Keys.ARROW_DOWN)
            if not wanted.is_selected():
                self.key(Keys.SPACE)
        else:
            self.key(Keys.SPACE if kind == "checkbox" else Keys.ENTER)

    def write(self, css: str, text: str, words: str = "") -> None:
        self.reached(css, words)
        ActionChains(self.browser).key_down(Keys.CONTROL).send_keys("a").key_up(Keys.CONTROL).perform()
        self.did["keys"] += 1
        ActionChains(self.browser).send_keys(text).perform()
        self.did["fields typed"] += 1

    def choose(self, css: str, text: str) -> None:
        wanted = self.reached(css)
        ActionChains(self.browser).send_keys(text).perform()
        self.did["choices"] += 1
        try:
            now = Select(wanted).first_selected_option.text
        except StaleElementReferenceException:
            return  # what is chosen draws the page anew
        if wanted.get_attribute("value") and text not in now:
            raise AssertionError(f"typing “{text}” did not choose it")


class Mouse(Hands):
    """Clicks where the control stands; letters are typed only into a field that was clicked."""

    name = "mouse"

    def area(self, name: str) -> None:
        self.press(".bar nav a", name)

    def press(self, css: str, words: str = "") -> None:
        def click() -> None:
            wanted = self.find(css, words)
            try:
                ActionChains(self.browser).scroll_to_element(wanted).move_to_element(wanted).click().perform()
            except WebDriverException:
                self.browser.execute_script("arguments[0].scrollIntoView({block: 'center'})", wanted)
                raise

        self.again(click)
        self.did["clicks"] += 1

    def write(self, css: str, text: str, words: str = "") -> None:
        self.press(css, words)
        at = ActionChains(self.browser)
        at.key_down(Keys.CONTROL).send_keys("a").key_up(Keys.CONTROL).send_keys(text).perform()
        self.did["fields typed"] += 1

    def choose(self, css: str, text: str) -> None:
        chosen = Select(self.find(css))
        at = next(one for one in chosen.options if text in one.text)
        chosen.select_by_visible_text(at.text)
        self.did["clicks"] += 2
        self.did["choices"] += 1
