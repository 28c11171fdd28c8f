#!/usr/bin/env python3
"""Recovery sheets as a browser shows and prints them: every code is read back from a picture by a decoder that has nothing in common
with what made it, and three sheets of five bring the key back with what was read. See page.sh."""

import os
import pathlib
import re
import subprocess
import sys
import tempfile

import zxingcpp
from PIL import Image

PROGRAM, BROWSER = sys.argv[1], sys.argv[2]
Image.MAX_IMAGE_PIXELS = None


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        root = pathlib.Path(folder)
        passphrase = {"LANTERN_KEY_PASSPHRASE": "the tide comes in slowly"}
        env = {**os.environ, "LANTERN_HOME": str(root / "home"), **passphrase}

        def lantern(*arguments: str) -> str:
            done = subprocess.run([PROGRAM, *arguments], cwd=root, env=env, capture_output=True, text=True)
            assert done.returncode == 0, (arguments, done.stdout, done.stderr)
            return done.stdout

        lantern("key", "new", "mobile", "--kind", "rsa-3072", "--subject", "CN=Paper Heron")
        lantern("key", "backup", "mobile", "sheets", "--sheets", "3/5")
        texts, read = [], 0
        for number in (1, 4, 5):
            page = root / f"sheets/sheet-{number}.html"
            picture = root / f"{number}.png"
            flags = ["--headless", "--no-sandbox", "--disable-gpu", f"--user-data-dir={root / 'browser'}", "--hide-scrollbars"]
            size = ["--force-device-scale-factor=2", "--window-size=794,4200"]
            subprocess.run(
                [BROWSER, *flags, *size, f"--screenshot={picture}", page.as_uri()],
                check=True, capture_output=True, timeout=120,
            )
            codes = [code.text for code in zxingcpp.read_barcodes(Image.open(picture))]
            wanted = set(re.findall(r"KL1:[A-Z0-9:]+", page.read_text()))
            assert set(codes) == wanted, (sorted(wanted - set(codes)), sorted(set(codes) - wanted))
            read += len(codes)
            share = [text for text in codes if text.startswith("KL1:SHARE:")]
            assert len(share) == 1, share
            # The encrypted key from one sheet, the shares from three.
            found = root / f"scanned-{number}.txt"
            found.write_text("\n".join(codes if number == 4 else share))
            texts.append(str(found))
            # What a printer is given: the browser lays it out in pages of paper.
            paper = root / f"{number}.pdf"
            subprocess.run(
                [BROWSER, *flags, "--no-pdf-header-footer", f"--print-to-pdf={paper}", page.as_uri()],
                check=True, capture_output=True, timeout=120,
            )
            pages = len(re.findall(rb"/Type\s*/Page\b", paper.read_bytes()))
            assert 3 <= pages <= 5, pages
        said = lantern("key", "drill", "mobile", *texts)
        assert "bring the key mobile back, and it signs" in said, said
    print(f"recovery sheets: {read} codes of 3 sheets read from pictures, the key brought back, {pages} pages each on paper")


main()
