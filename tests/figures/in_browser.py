"""Uses a report in headless Chromium as a reader would: drags, types, clicks, moves the slider. Prints what the page then says, as JSON.

    python3 in_browser.py report.html [words to search for [path of a sequence]]
    python3 in_browser.py --pairs report.html    # its panels of one quantity against another

Talks to chromedriver by the W3C WebDriver protocol; needs nothing but Python's own library.
"""
import json
import os
import socket
import subprocess
import sys
import tempfile
import time
import urllib.request


class Browser:
    def __init__(self):
        with socket.socket() as s:
            s.bind(("127.0.0.1", 0))
            port = s.getsockname()[1]
        self.profile = tempfile.TemporaryDirectory()
        self.driver = subprocess.Popen(["chromedriver", f"--port={port}"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        self.base = f"http://127.0.0.1:{port}"
        arguments = ["--headless=new", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage", "--window-size=1280,900", "--user-data-dir=" + self.profile.name]
        wanted = {"browserName": "chrome", "goog:chromeOptions": {"args": arguments}, "goog:loggingPrefs": {"browser": "ALL"}}
        for attempt in range(100):
            try:
                made = self.call("POST", "/session", {"capabilities": {"alwaysMatch": wanted}})
                break
            except OSError:
                if attempt == 99:
                    raise
                time.sleep(0.1)
        self.base += "/session/" + made["sessionId"]

    def call(self, method, path, body=None):
        data = None if body is None else json.dumps(body).encode()
        request = urllib.request.Request(self.base + path, data, {"Content-Type": "application/json"}, method=method)
        with urllib.request.urlopen(request, timeout=60) as answer:
            return json.load(answer)["value"]

    def close(self):
        try:
            self.call("DELETE", "")
        finally:
            self.driver.terminate()
            self.driver.wait()

    def script(self, text):
        return self.call("POST", "/execute/sync", {"script": text, "args": []})

    def pointer(self, *steps):
        actions = [{"type": "pointer", "id": "mouse", "parameters": {"pointerType": "mouse"}, "actions": list(steps)}]
        self.call("POST", "/actions", {"actions": actions})

    def box(self, selector):
        self.script(f"document.querySelector({json.dumps(selector)}).scrollIntoView({{block: 'center'}})")
        return self.script(f"const r = document.querySelector({json.dumps(selector)}).getBoundingClientRect(); return [r.x, r.y, r.width, r.height]")

    def click(self, selector, count=1):
        x, y, w, h = self.box(selector)
        press = [{"type": "pointerDown", "button": 0}, {"type": "pointerUp", "button": 0}] * count
        self.pointer(to(x + w / 2, y + h / 2), *press)

    def drag(self, selector, first, last):
        x, y, w, h = self.box(selector)
        self.pointer(to(x + first * w, y + h / 2), {"type": "pointerDown", "button": 0}, to(x + (first + last) / 2 * w, y + h / 2), to(x + last * w, y + h / 2),
                     {"type": "pointerUp", "button": 0})

    def keys(self, selector, text):
        element = self.call("POST", "/element", {"using": "css selector", "value": selector})
        self.call("POST", "/element/" + list(element.values())[0] + "/value", {"text": text})


def to(x, y):
    return {"type": "pointerMove", "duration": 30, "x": int(x), "y": int(y)}


def open_page(page):
    browser.call("POST", "/url", {"url": "file://" + os.path.abspath(page)})
    for _ in range(200):
        if browser.script("return document.body.dataset.ready === 'yes'"):
            break
        time.sleep(0.05)


def console():
    return [entry["message"] for entry in browser.call("POST", "/se/log", {"type": "browser"}) if entry["level"] in ("SEVERE", "WARNING")]


def use_figures(said, text):
    axis = ("const l = [...document.querySelectorAll('.plot')][{}].querySelectorAll('.dygraph-axis-label-x'); "
            "return [parseFloat(l[0].textContent), parseFloat(l[l.length - 1].textContent)]")
    browser.drag(".plot", 0.4, 0.6)
    said["zoomed"] = text("#frame")
    if browser.script("return document.querySelectorAll('.plot').length") > 1:
        said["zoomed_second"] = browser.script(axis.format(1))
    x, y, w, h = browser.box(".plot")
    browser.pointer(to(x + w / 2 - 40, y + h / 2), to(x + w / 2, y + h / 2))
    said["cursor"] = text("#cursor")
    said["read_out"] = browser.script("return [...document.querySelectorAll('.entry .value')].map(e => e.textContent)")
    browser.click("#later")
    said["panned"] = text("#frame")
    browser.click(".plot", 2)
    said["back"] = text("#frame")
    browser.click("#closer")
    said["closer"] = text("#frame")
    browser.click("#whole")


def use(page, search, sequence):
    said = {}
    open_page(page)
    text = lambda selector: browser.script(f"const e = document.querySelector({json.dumps(selector)}); return e === null ? null : e.textContent")
    said["title"] = text("h1")
    said["panels"] = browser.script("return document.querySelectorAll('.plot canvas').length / 2")
    said["whole"] = text("#frame")
    if said["panels"] > 0:
        use_figures(said, text)

    browser.keys("#search", search)
    said["found"] = browser.script("return [...document.querySelectorAll('#list label')].map(e => e.dataset.name)")
    browser.click("#list input")
    said["picked"] = browser.script("return [...document.querySelectorAll('#own .entry')].map(e => e.textContent)")
    said["picked_unit"] = text("#own .dygraph-ylabel")
    # what the graph was given
    points = ("const g = document.querySelector('#own .plot').graph, n = g.numRows(), v = []; for (let i = 0; i < n; ++i) { const y = g.getValue(i, 1); "
              "if (y !== null && !Number.isNaN(y)) v.push(y); } return [n, Math.min(...v), Math.max(...v)]")
    said["picked_points"] = browser.script(points)
    browser.drag("#own .plot", 0.5, 0.6)
    said["picked_closer"] = browser.script(points)
    browser.click("#whole")
    if browser.script("return document.querySelector('#own select') !== null"):
        browser.script("const s = document.querySelector('#own select'); s.selectedIndex = 1; s.dispatchEvent(new Event('change'))")
        said["other_unit"] = text("#own .dygraph-ylabel")
        said["other_value"] = text("#own .value")
    browser.click("#own button")
    said["removed"] = browser.script("return document.querySelectorAll('#own .panel').length")

    if sequence:
        browser.script(f"const s = document.getElementById('search'); s.value = {json.dumps(sequence)}; s.dispatchEvent(new Event('input'))")
        browser.click(f"#list label[data-name='{sequence}'] input")
        said["stages"] = browser.script("return [...document.querySelectorAll('#own .dygraph-axis-label-y')].map(e => e.textContent)")
        x, y, w, h = browser.box("#own .plot")
        browser.pointer(to(x + w / 2 - 40, y + h / 2), to(x + w / 2, y + h / 2))
        said["stage_at"] = [text("#cursor"), text("#own .value")]
        browser.click("#own button")

    if browser.script("return document.getElementById('moment') !== null"):
        picture = "return document.getElementById('picture').toDataURL()"
        before = browser.script(picture)
        browser.drag("#moment", 0.02, 0.5)
        said["clock"] = text("#clock")
        said["moved"] = browser.script(picture) != before
        said["painted"] = browser.script("const c = document.getElementById('picture'), d = c.getContext('2d').getImageData(0, 0, c.width, c.height).data; "
                                         "let n = 0; for (let i = 3; i < d.length; i += 4) if (d[i] > 0) ++n; return n")
        browser.click("#play")
        time.sleep(0.4)
        browser.click("#play")
        said["clock_after_play"] = text("#clock")
    if browser.script("return document.querySelector('input[data-event]') !== null"):
        browser.click("input[data-event]")
    if browser.script("return document.getElementById('measure') !== null"):
        browser.script("const s = document.getElementById('measure'); s.selectedIndex = 1; s.dispatchEvent(new Event('change'))")
        said["bars"] = browser.script("return Chart.getChart('bars').data.datasets[0].data")
        said["radar"] = browser.script("return Chart.getChart('radar') !== undefined")
    said["hidden_before"] = browser.script("return document.querySelectorAll('tr.kept[hidden]').length")
    browser.click("#all-params")
    said["hidden_after"] = browser.script("return document.querySelectorAll('tr.kept[hidden]').length")
    said["redraw_ms"] = browser.script("const t = performance.now(); document.getElementById('closer').click(); const d = performance.now() - t; "
                                       "document.getElementById('whole').click(); return d")
    said["outside"] = browser.script("return performance.getEntriesByType('resource').map(e => e.name).filter(n => !n.startsWith('data:') && !n.startsWith('blob:'))")
    said["console"] = console()
    return said


def use_pairs(page):
    said = {}
    open_page(page)
    chart = "Chart.getChart(document.querySelector('.pair canvas'))"
    x_range = f"const c = {chart}; return [c.scales.x.min, c.scales.x.max]"
    points = f"return {chart}.data.datasets.reduce((n, d) => n + d.data.length, 0)"
    said["panels"] = browser.script("return document.querySelectorAll('.pair').length")
    said["missing"] = browser.script("return [...document.querySelectorAll('#figures > p.soft')].map(e => e.textContent)")
    said["curves"] = browser.script(f"return {chart}.data.datasets.length")
    said["x_range"] = browser.script(x_range)
    said["points"] = browser.script(points)
    browser.drag(".plot", 0.3, 0.5)
    said["points_in_frame"] = browser.script(points)
    x, y, w, h = browser.box(".plot")
    browser.pointer(to(x + w / 2 - 40, y + h / 2), to(x + w / 2, y + h / 2))
    said["cursor"] = browser.script("return document.getElementById('cursor').textContent")
    said["read_out"] = browser.script("return [...document.querySelectorAll('.pair')].map(e => e.parentNode.querySelector('.value').textContent)")
    said["dots"] = browser.script("return [...document.querySelectorAll('.dot')].filter(e => e.style.display === 'block').length")
    browser.click("#whole")
    x, y, w, h = browser.box(".pair canvas")
    down, up = {"type": "pointerDown", "button": 0}, {"type": "pointerUp", "button": 0}
    browser.pointer(to(x + 0.4 * w, y + 0.3 * h), down, to(x + 0.6 * w, y + 0.5 * h), to(x + 0.7 * w, y + 0.7 * h), up)
    said["zoomed"] = browser.script(x_range)
    browser.script("for (const [kind, dx] of [['mousedown', 0], ['mousemove', 40], ['mouseup', 40]]) { const c = document.querySelector('.pair canvas'), r = c.getBoundingClientRect();"
                   " c.dispatchEvent(new MouseEvent(kind, { bubbles: true, shiftKey: true, clientX: r.x + r.width / 2 + dx, clientY: r.y + r.height / 2 })); }")
    said["panned"] = browser.script(x_range)
    browser.click(".pair canvas", 2)
    said["whole"] = browser.script(x_range)
    browser.script("const s = [...document.querySelector('.pair').parentNode.querySelectorAll('select')].find(s => s.value === 'm'); s.value = 'mm'; "
                   "s.dispatchEvent(new Event('change'))")
    said["in_mm"] = browser.script(x_range)
    browser.click("#runs input")
    said["one_run"] = browser.script(f"return {chart}.data.datasets.length")
    said["console"] = console()
    return said


browser = Browser()
try:
    said = use_pairs(sys.argv[2]) if sys.argv[1] == "--pairs" else use(*(sys.argv[1:4] + ["", ""])[:3])
    print(json.dumps(said, indent=1))
finally:
    browser.close()
