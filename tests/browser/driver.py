"""A real headless Chromium, and the running application it looks at."""

import shutil
import tempfile
import threading
from pathlib import Path

import uvicorn
from selenium import webdriver
from selenium.webdriver.chrome.options import Options
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.by import By

from loyalbell.demo.server import server_for
from tests.support import wait_for

FLAGS = (
    "--headless=new --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking"
    " --disable-component-update --disable-sync --disable-dev-shm-usage --hide-scrollbars"
    " --force-device-scale-factor=1"
).split()


def open_browser(width: int = 1280, height: int = 800) -> webdriver.Chrome:
    options = Options()
    options.binary_location = shutil.which("chromium") or "/usr/bin/chromium"
    for flag in (*FLAGS, f"--window-size={width},{height}"):
        options.add_argument(flag)
    # as a person's: a headless browser names itself, and its openings count as a machine's
    options.add_argument("--user-agent=Mozilla/5.0 (X11; Linux x86_64) Browser/156.0")
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    browser = webdriver.Chrome(options=options, service=Service(shutil.which("chromedriver")))
    browser.execute_cdp_cmd(
        "Emulation.setDeviceMetricsOverride",
        {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": False},
    )
    return browser


class ServedApplication:
    """The application on a data folder, served on a free port in a thread."""

    def __init__(self, data: Path, demo_sign_in: tuple[str, str] | None = None) -> None:
        self.running = server_for(data, 0, demo_sign_in)
        config = uvicorn.Config(self.running.served, host="127.0.0.1", port=0, log_level="warning")
        self._server = uvicorn.Server(config)
        self._thread = threading.Thread(target=self._server.run, daemon=True)

    def start(self) -> str:
        self._thread.start()
        wait_for(lambda: self._server.started)
        self.running.port = self._server.servers[0].sockets[0].getsockname()[1]
        self.running.start()
        return self.running.address

    def stop(self) -> None:
        self._server.should_exit = True
        self._thread.join(timeout=10)
        self.running.stop()


def sign_in(browser: webdriver.Chrome, address: str) -> None:
    browser.get(address + "/sign-in")
    browser.find_element(By.CSS_SELECTOR, "button[type=submit]").click()
    wait_for(lambda: browser.find_element(By.CSS_SELECTOR, ".bar nav"))


def scratch_folder() -> Path:
    return Path(tempfile.mkdtemp(prefix="loyalbell-"))
