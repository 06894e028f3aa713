#!/usr/bin/env python3
"""Draws the page of `vorsel serve` in a headless Chromium, as somebody uses it: signed out, signed in, refused, after a replay, in a narrow
window, dark. page.py BASE FOLDER"""

import base64
import json
import os
import subprocess
import sys
import tempfile
import time


class Browser:
    """Chromium, over the pipe of its DevTools protocol."""

    def __init__(self, profile):
        there, self.write = os.pipe()
        self.read, back = os.pipe()
        self.process = subprocess.Popen(
            ["sh", "-c", f'exec chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --remote-debugging-pipe '
             f'--user-data-dir="{profile}" about:blank 3<&{there} 4>&{back}'],
            pass_fds=(there, back), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        os.close(there)
        os.close(back)
        self.buffer, self.count, self.session = b"", 0, None
        target = self.call("Target.createTarget", url="about:blank")["targetId"]
        self.session = self.call("Target.attachToTarget", targetId=target, flatten=True)["sessionId"]

    def call(self, method, **params):
        self.count += 1
        message = {"id": self.count, "method": method, "params": params}
        if self.session:
            message["sessionId"] = self.session
        os.write(self.write, json.dumps(message).encode() + b"\0")
        while True:
            while b"\0" not in self.buffer:
                self.buffer += os.read(self.read, 1 << 16)
            text, self.buffer = self.buffer.split(b"\0", 1)
            answer = json.loads(text)
            if answer.get("id") == self.count:
                if "error" in answer:
                    sys.exit(f"{method}: {answer['error']}")
                return answer["result"]

    def run(self, expression):
        result = self.call("Runtime.evaluate", expression=expression, awaitPromise=True, returnByValue=True)
        if "exceptionDetails" in result:
            sys.exit(f"{expression}: {result['exceptionDetails']}")
        return result["result"].get("value")

    def until(self, expression, tries=200):
        for _ in range(tries):
            if self.run(expression):
                return
            time.sleep(0.05)
        sys.exit(f"never: {expression}; the page says {self.run('document.body.innerText')}")

    def look(self, width, height, dark=False):
        self.call("Emulation.setDeviceMetricsOverride", width=width, height=height, deviceScaleFactor=1, mobile=width < 500)
        scheme = "dark" if dark else "light"
        self.call("Emulation.setEmulatedMedia", features=[{"name": "prefers-color-scheme", "value": scheme}])

    def picture(self, path):
        time.sleep(0.2)
        shot = self.call("Page.captureScreenshot", format="png")
        with open(path, "wb") as file:
            file.write(base64.b64decode(shot["data"]))

    def type(self, form, **fields):
        for name, value in fields.items():
            self.run(f"document.querySelector('#{form} [name={name}]').value = {json.dumps(value)}")
        self.run(f"document.querySelector('#{form}').requestSubmit()")

    def ask(self, method, path):
        button = (f"[...document.querySelectorAll('#routes button')].find((button) => "
                  f"button.innerText.split(/\\s+/).slice(0, 2).join(' ') === {json.dumps(f'{method} {path}')})")
        self.run(f"{button}.click()")
        self.until(f"!{button}.nextElementSibling.hidden")

    def idle(self):
        self.until("![...document.querySelectorAll('button')].some((button) => button.disabled)")


def main():
    base, folder = sys.argv[1:]
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as profile:
        browser = Browser(profile)
        try:
            draw(browser, base, folder)
        finally:
            browser.process.terminate()
            browser.process.wait()


def draw(browser, base, folder):
    shown = "document.querySelector('.{}:not([hidden])') !== null"
    browser.look(1280, 800)
    browser.call("Page.navigate", url=f"{base}/")
    browser.until(shown.format("out"))
    browser.picture(f"{folder}/page-signed-out.png")
    browser.type("sign-in", subject="obs-0017", password="hill-obs-0017")
    browser.until(shown.format("in"))
    browser.idle()
    browser.picture(f"{folder}/page-signed-in.png")
    for method, path in [("GET", "/exposures"), ("POST", "/dome"), ("DELETE", "/exposures/exp-101"), ("GET", "/dome/live")]:
        browser.ask(method, path)
    browser.picture(f"{folder}/page-refused.png")
    browser.type("replay", password="hill-obs-0017")
    browser.until("document.querySelectorAll('#replay-steps li').length === 6", 600)
    browser.idle()
    browser.run("document.querySelector('#replay').scrollIntoView({ block: 'center' })")
    browser.picture(f"{folder}/page-replay.png")
    browser.run("scrollTo(0, 0)")
    browser.look(1280, 800, dark=True)
    browser.run("document.querySelector('#out-here').click()")
    browser.until(shown.format("out"))
    browser.type("sign-in", subject="ope-0002", password="hill-ope-0002")
    browser.until(shown.format("in"))
    browser.idle()
    browser.ask("GET", "/dome/live")
    browser.picture(f"{folder}/page-dark.png")
    browser.look(375, 800)
    browser.picture(f"{folder}/page-narrow.png")
    wide = browser.run("document.documentElement.scrollWidth")
    if wide > 375:
        sys.exit(f"at 375 px the page is {wide} px wide")


main()
