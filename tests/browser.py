"""A real Chromium, steered by its own protocol: pages are opened, keys pressed, downloads taken."""

import asyncio
import base64
import itertools
import json
import shutil
import subprocess
import time
from pathlib import Path
from typing import Any, Self

import aiohttp

BROWSER = shutil.which("chromium") or shutil.which("chromium-browser")

_FLAGS = (
    *(
        "--headless=new",
        "--no-sandbox",
        "--disable-gpu",
        "--no-first-run",
        "--disable-background-networking",
    ),
    *(
        "--disable-component-update",
        "--disable-sync",
        "--disable-quic",
        "--autoplay-policy=no-user-gesture-required",
    ),
    *(
        "--remote-debugging-port=0",
        "--window-size=1280,800",
        "--disable-dev-shm-usage",
        "--mute-audio",
    ),
)
_CODES = {
    "Enter": 13,
    "Escape": 27,
    " ": 32,
    "ArrowDown": 40,
    "ArrowUp": 38,
    "ArrowLeft": 37,
    "ArrowRight": 39,
    "PageUp": 33,
    "PageDown": 34,
    "End": 35,
    "Home": 36,
}
CTRL, SHIFT = 2, 8


class Browser:
    """A browser with a profile of its own; as a context it is closed at the end."""

    def __init__(self, folder: Path) -> None:
        assert BROWSER is not None
        self._profile = folder / "profile"
        self.downloads = folder / "downloads"
        self.downloads.mkdir(parents=True, exist_ok=True)
        self._loop = asyncio.new_event_loop()
        self._process = subprocess.Popen(
            [BROWSER, *_FLAGS, f"--user-data-dir={self._profile}", "about:blank"],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        port_file = self._profile / "DevToolsActivePort"
        wait_until(lambda: port_file.exists() and "\n" in port_file.read_text(), seconds=60.0)
        self._address = f"http://127.0.0.1:{port_file.read_text().splitlines()[0]}"
        self._session = self._run(_session())
        self._pages: list[Page] = []

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        for page in self._pages:
            self._run(page.socket.close())
        self._run(self._session.close())
        self._process.terminate()
        self._process.wait(20)
        self._loop.close()

    def open(self, address: str) -> "Page":
        """A new window with a page, when it is loaded."""
        target = self._run(self._json("PUT", f"/json/new?{'about:blank'}"))
        page = Page(
            self,
            self._run(self._session.ws_connect(target["webSocketDebuggerUrl"], max_msg_size=0)),
        )
        self._pages.append(page)
        page.call("Page.enable")
        page.call("Runtime.enable")
        page.call("Browser.setDownloadBehavior", behavior="allow", downloadPath=str(self.downloads))
        page.call("Page.navigate", url=address)
        wait_until(lambda: page.value("document.readyState") == "complete", seconds=60.0)
        return page

    async def _json(self, method: str, path: str) -> Any:
        async with self._session.request(method, self._address + path) as answer:
            return await answer.json()

    def _run(self, work: Any) -> Any:
        return self._loop.run_until_complete(work)


async def _session() -> aiohttp.ClientSession:
    return aiohttp.ClientSession()


_GONE = -32000  # of the protocol: the page that was asked is not there any more


class NavigatedError(AssertionError):
    """A page was asked something while another one took its place."""


class Page:
    """One window."""

    def __init__(self, browser: Browser, socket: aiohttp.ClientWebSocketResponse) -> None:
        self._browser, self.socket = browser, socket
        self._numbers = itertools.count(1)
        self.problems: list[str] = []

    def call(self, method: str, **given: Any) -> Any:
        """Call a method of the protocol."""
        return self._browser._run(self._called(method, given))

    async def _called(self, method: str, given: dict[str, Any]) -> Any:
        number = next(self._numbers)
        await self.socket.send_json({"id": number, "method": method, "params": given})
        while True:
            message = json.loads((await self.socket.receive(60)).data)
            if message.get("method") == "Runtime.exceptionThrown":
                self.problems.append(json.dumps(message["params"]["exceptionDetails"])[:2000])
            if message.get("id") == number:
                if message.get("error", {}).get("code") == _GONE:
                    raise NavigatedError(message["error"]["message"])
                assert "error" not in message, message
                return message["result"]

    def value(self, script: str) -> Any:
        """What a script gives, when a promise that it gives is kept."""
        result = self.call(
            "Runtime.evaluate", expression=script, awaitPromise=True, returnByValue=True
        )
        assert "exceptionDetails" not in result, json.dumps(result["exceptionDetails"])[-600:]
        return result["result"].get("value")

    def press(self, key: str, modifiers: int = 0) -> None:
        """Press a key."""
        text = "" if modifiers & CTRL or len(key) > 1 else key
        text = "\r" if key == "Enter" else text
        code = _CODES.get(key, ord(key.upper()) if len(key) == 1 else 0)
        common = {"key": key, "windowsVirtualKeyCode": code, "modifiers": modifiers}
        self.call("Input.dispatchKeyEvent", type="keyDown", text=text, **common)
        self.call("Input.dispatchKeyEvent", type="keyUp", **common)

    def type(self, text: str) -> None:
        """Put in a text where the focus is."""
        self.call("Input.insertText", text=text)

    def click(self, selector: str, number: int = 0) -> None:
        """Click into the middle of an element."""
        element = f"document.querySelectorAll({json.dumps(selector)})[{number}]"
        where = self.value(
            f"(() => {{ const box = {element}.getBoundingClientRect();"
            " return [box.x + box.width / 2, box.y + box.height / 2]; })()"
        )
        for kind in ("mousePressed", "mouseReleased"):
            self.call(
                "Input.dispatchMouseEvent",
                type=kind,
                x=where[0],
                y=where[1],
                button="left",
                clickCount=1,
            )

    def view(self, width: int, height: int, *, is_dark: bool = False) -> None:
        """Set the size of the window and the scheme of colours."""
        self.call(
            "Emulation.setDeviceMetricsOverride",
            width=width,
            height=height,
            deviceScaleFactor=1,
            mobile=False,
        )
        scheme = {"name": "prefers-color-scheme", "value": "dark" if is_dark else "light"}
        self.call("Emulation.setEmulatedMedia", features=[scheme])

    def picture(self) -> bytes:
        """A PNG of what is seen."""
        return base64.b64decode(self.call("Page.captureScreenshot", format="png")["data"])

    def faults(self) -> list[str]:
        """What axe-core finds wrong for people who use keyboards and screen readers."""
        import axe_core_python

        source = next(Path(axe_core_python.__file__).parent.rglob("axe.min.js")).read_text(
            encoding="utf-8"
        )
        self.call("Runtime.evaluate", expression=source)
        found = self.value(
            "axe.run(document, {resultTypes: ['violations']}).then(found => found.violations.map("
            "one => `${one.id}: ${one.help}: ${one.nodes.slice(0, 3).map(node => "
            "node.html).join(' | ')}`))"
        )
        assert isinstance(found, list)
        return found

    def downloaded(self, name: str) -> bytes:
        """A file that the page has saved, when it is whole.

        The browser keeps the name free with an empty file, and puts the whole one in its place at
        the end.
        """
        file = self._browser.downloads / name
        wait_until(lambda: file.exists() and file.stat().st_size > 0, seconds=60.0)
        return file.read_bytes()

    def wait_for(self, script: str, seconds: float = 20.0) -> None:
        """Wait until a script gives true; also while another page takes the place of this one."""

        def is_so() -> bool:
            try:
                return bool(self.value(script))
            except NavigatedError:
                return False

        wait_until(is_so, seconds)


def wait_until(is_so: Any, seconds: float = 20.0) -> None:
    """Wait until something is so.

    Raises:
        AssertionError: it never is.
    """
    deadline = time.monotonic() + seconds
    while not is_so():
        assert time.monotonic() < deadline, "it took too long"
        time.sleep(0.03)
