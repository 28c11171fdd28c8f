#!/usr/bin/env python3
"""Draws what the growth bench or scripts/bench-scale.sh prints: scripts/growth.py TABLE.tsv PICTURE.svg

One small chart for each of some columns, over the number of releases (logarithmic) or over the data; each begins at zero.
"""
import html
import math
import sys

WIDTH, HEIGHT, LEFT, TOP, GAP = 360, 200, 64, 40, 40
# What a table's first column is called: what is drawn over which column, and how it is called.
DRAWN = {
    "releases": ("releases", ["packs, MB", "rest, MB", "ranges", "metadata, kB"], "Over the number of releases: 3,000 files, 88 MB, each edits one in a hundred"),
    "times": ("data, MB", ["prepare, s", "install, s", "update, s", "prepare, MB"], "Over the size of a game in MB: 3,000, 12,000 and 48,000 files"),
}


def chart(name, xs, ys, is_log, left, top):
    most = max(ys) * 1.1 or 1
    step = 10 ** math.floor(math.log10(most / 2))
    step = next(s for s in (step, 2 * step, 5 * step, 10 * step) if most / s <= 5)
    scale = math.log10 if is_log else float
    at_x = lambda x: left + LEFT + (WIDTH - LEFT - 20) * scale(x) / (scale(max(xs)) or 1)
    at_y = lambda y: top + HEIGHT - 30 - (HEIGHT - 60) * y / most
    out = [f'<text x="{left + LEFT}" y="{top + 16}" class="name">{html.escape(name)}</text>']
    for number in range(int(most / step) + 1):
        y = at_y(number * step)
        out.append(f'<line x1="{left + LEFT}" x2="{left + WIDTH - 20}" y1="{y:.1f}" y2="{y:.1f}" class="grid"/>')
        out.append(f'<text x="{left + LEFT - 6}" y="{y + 4:.1f}" class="end">{number * step:g}</text>')
    for x in xs:
        if not is_log or math.log10(x).is_integer():
            out.append(f'<text x="{at_x(x):.1f}" y="{top + HEIGHT - 12}" class="middle">{x:,}</text>')
    points = " ".join(f"{at_x(x):.1f},{at_y(y):.1f}" for x, y in zip(xs, ys))
    out.append(f'<polyline points="{points}"/>')
    out += [f'<circle cx="{at_x(x):.1f}" cy="{at_y(y):.1f}" r="3"/>' for x, y in zip(xs, ys)]
    return out


def main():
    table, picture = sys.argv[1:3]
    with open(table, encoding="utf-8") as file:
        rows = [line.rstrip("\n").split("\t") for line in file if "\t" in line]
    columns, rows = rows[0], rows[1:]
    over, shown, title = DRAWN[columns[0]]
    xs = [int(row[columns.index(over)]) for row in rows]
    lines = []
    for number, name in enumerate(shown):
        ys = [float(row[columns.index(name)]) for row in rows]
        left, top = 20 + (number % 2) * (WIDTH + GAP), TOP + (number // 2) * (HEIGHT + GAP)
        lines += chart(name, xs, ys, over == "releases", left, top)
    width, height = 20 + 2 * (WIDTH + GAP), TOP + 2 * (HEIGHT + GAP)
    style = (
        "text{font:13px sans-serif;fill:#333}.name{font-weight:bold}.end{text-anchor:end}.middle{text-anchor:middle}"
        ".grid{stroke:#ddd}polyline{fill:none;stroke:#2a6f73;stroke-width:2}circle{fill:#2a6f73}"
    )
    head = f'<svg xmlns="http://www.w3.org/2000/svg" width="{width}" height="{height}" viewBox="0 0 {width} {height}">'
    body = [head, f"<style>{style}</style>", f'<rect width="{width}" height="{height}" fill="#fff"/>', f'<text x="{20 + LEFT}" y="22">{title}</text>']
    with open(picture, "w", encoding="utf-8") as file:
        file.write("\n".join(body + lines + ["</svg>"]) + "\n")


main()
