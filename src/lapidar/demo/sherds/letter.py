"""A letter about the kilns. Reads results/summary.json and results/trenches.csv, and writes results/letter.txt."""

import csv
import json

with open("results/summary.json") as told:
    kilns = json.load(told)["kilns"]
with open("results/trenches.csv", newline="") as table:
    trenches = {row["trench"] for row in csv.DictReader(table)}
with open("results/letter.txt", "w") as letter:
    letter.write(f"Dear colleague,\nthe sherds of {len(trenches)} trenches come from {kilns} kilns.\n")
