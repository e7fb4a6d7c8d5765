"""Which trench has sherds of which kiln? Reads results/scores.csv, and writes results/trenches.csv."""

import csv
from collections import Counter

with open("results/scores.csv", newline="") as scores:
    counted = Counter((row["trench"], row["kiln"]) for row in csv.DictReader(scores))
with open("results/trenches.csv", "w", newline="") as table:
    rows = csv.writer(table, lineterminator="\n")
    rows.writerow(["trench", "kiln", "sherds"])
    rows.writerows((*key, count) for key, count in sorted(counted.items()))
