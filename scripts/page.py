#!/usr/bin/env python3
"""Drives the page with steps in a headless browser; see page.sh."""

import html
import json
import os
import pathlib
import re
import subprocess
import sys
import tempfile

PROGRAM, BROWSER = sys.argv[1], sys.argv[2]

CONFIG = """
[game]
name = "Saltmarsh Post"
studio = "Paper Heron"
identity = "example.paperheron.saltmarsh"
version = "1.4.0"

[targets.web]
export = "export"

[storefronts.old-pier]
kind = "by-hand"
rules = "old-pier.toml"
"""

RULES = """
[[steps.push]]
id = "carry"
text = "Copy <b>the archive</b> & more."
open = "javascript:alert(1)"
files = true

[[steps.push]]
id = "letter"
text = "Send the letter."
open = "https://old-pier.example/?a=1&b=2"
paste = [{ field = "letter", text = "Dear \\"keepers\\",\\n</pre><script>document.title='broken in'</script>" }]
"""

# What someone with a mouse would do, and what comes of it. The clipboard is a stand-in that answers at once: the browser's own
# asks outside the page, whose clock does not wait for the answer. Where it refuses, texts are copied the old way.
DRIVER = """
<script>
addEventListener('load', async () => {
  const copied = [], copiedTheOldWay = [];
  const refuses = location.search === '?refuses';
  const writeText = async (text) => { if (refuses) throw new Error('refused'); copied.push(text) };
  Object.defineProperty(navigator, 'clipboard', { value: { writeText } });
  document.execCommand = () => { copiedTheOldWay.push(getSelection().toString()); return true };
  const boxes = [...document.querySelectorAll('li > input')];
  const before = boxes.map((box) => box.checked);
  boxes[0].click();
  for (const button of document.querySelectorAll('button')) button.click();
  await new Promise((done) => setTimeout(done, 300));
  const labels = [...document.querySelectorAll('button')].map((button) => button.textContent);
  const loaded = performance.getEntriesByType('resource').length;
  const links = [...document.querySelectorAll('a')].map((link) => link.href);
  const out = document.createElement('pre');
  out.id = 'driven';
  out.textContent = JSON.stringify({ before, copied, copiedTheOldWay, labels, loaded, links, title: document.title });
  document.body.append(out);
});
</script>
"""


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        root = pathlib.Path(folder)
        (root / "export").mkdir()
        (root / "export/index.html").write_text("<!doctype html><title>Saltmarsh Post</title>")
        (root / "lantern.toml").write_text(CONFIG)
        (root / "old-pier.toml").write_text(RULES)
        env = {**os.environ, "LANTERN_HOME": str(root / "home")}
        for command in (["prepare"], ["push", "old-pier", "--yes"]):
            subprocess.run([PROGRAM, *command], cwd=root, env=env, check=True, stdout=subprocess.DEVNULL)
        [page] = root.glob(".lantern/outgoing/old-pier/*.html")
        text = page.read_text()
        assert "<b>the archive" not in text and "<script>document" not in text, "a text became markup"
        driven = root / "driven.html"
        driven.write_text(text.replace("</body>", DRIVER + "</body>"))

        def load(query):
            flags = ["--headless", "--no-sandbox", "--disable-gpu", f"--user-data-dir={root / 'browser'}"]
            done = subprocess.run(
                [BROWSER, *flags, "--virtual-time-budget=3000", "--dump-dom", driven.as_uri() + query],
                capture_output=True, text=True, timeout=120,
            )
            found = re.search(r'<pre id="driven">(.*?)</pre>', done.stdout, re.S)
            assert found, f"the page did not run: {done.stdout[-2000:]} {done.stderr[-2000:]}"
            return json.loads(html.unescape(found[1]))

        first, second = load("?refuses"), load("")
        folder_of_files = str(next(root.glob(".lantern/outgoing/old-pier/1.4.0-1")))
        expected = [
            folder_of_files,
            "lantern confirm old-pier carry",
            "Dear \"keepers\",\n</pre><script>document.title='broken in'</script>",
            "lantern confirm old-pier letter",
        ]
        assert first["before"] == [False, False], first
        assert first["copiedTheOldWay"] == expected and first["copied"] == [], first
        assert second["copied"] == expected and second["copiedTheOldWay"] == [], second
        for seen in first, second:
            assert set(seen["labels"]) == {"copied"}, seen["labels"]
        assert first["loaded"] == 0 and first["links"] == ["https://old-pier.example/?a=1&b=2"], first
        assert first["title"] == "bring 1.4.0 (1) to old-pier by hand", first["title"]
        # What was marked is marked when the page is opened again.
        assert second["before"] == [True, False], second
    print("the page with steps: 2 boxes, 4 buttons, 1 link, nothing loaded")


main()
