#!/usr/bin/env python3
"""Draws the ratios of benches as docs/performance.png, and prints them as the table of docs/PERFORMANCE.md:
chart.py RESULTS.json… (as scripts/bench.py --out writes them). Needs matplotlib (pip install matplotlib)."""

import json
import re
import sys
from pathlib import Path

import matplotlib

matplotlib.use("Agg")
import matplotlib.pyplot as plt

rows = [row for path in sys.argv[1:] for row in json.loads(Path(path).read_text())]
print("| work | ours | against | theirs | ratio | wanted | besides |\n| --- | --- | --- | --- | --- | --- | --- |")
for row in rows:
    ratio = f"{row['ratio']:.3g}" if row["ratio"] > 0 else "-"
    cells = [row["work"], row["ours"], row["against"], row["theirs"], ratio, row["wanted"], row["more"]]
    print("|", " | ".join(cell.replace("|", "\\|") for cell in cells), "|")
rows = [row for row in rows if row["ratio"] > 0 and re.search(r"[\d.]+", row["wanted"])]
bounds = [float(re.findall(r"[\d.]+", row["wanted"])[0]) for row in rows]
# Each bar is a share of what is allowed, so that all fit one axis.
shares = [row["ratio"] / bound for row, bound in zip(rows, bounds)]
plt.rcParams.update({"font.size": 9})
figure, axes = plt.subplots(figsize=(9, 0.42 * len(rows) + 1.2))
colours = ["#3d7a5a" if share <= 1 else "#a8442f" for share in shares]
axes.barh(range(len(rows)), shares, color=colours, height=0.6)
axes.axvline(1, color="#444444", linewidth=1)
axes.set_yticks(range(len(rows)), [f"{row['work']}\nagainst {row['against']}" for row in rows], fontsize=7)
for number, (row, share) in enumerate(zip(rows, shares)):
    axes.text(share + 0.02, number, f"{row['ratio']:.3g} (wanted {row['wanted']})", va="center", fontsize=7)
axes.invert_yaxis()
axes.set_xlim(0, max(1.6, max(shares) * 1.25))
axes.set_xlabel("ratio measured, as a share of the ratio that is wanted at most")
axes.spines[["top", "right"]].set_visible(False)
figure.tight_layout()
figure.savefig(Path(__file__).resolve().parent.parent / "docs/performance.png", dpi=110)
