"""A catalogue of finds: a line for each sherd, with the kiln nearest to it; placed.csv has the numbers."""

import csv

import sherdtext
from kilns import nearest

with open("finds.csv", newline="") as finds, open("placed.csv", "w", newline="") as placed:
    table = csv.writer(placed, lineterminator="\n")
    table.writerow(["sherd", "kiln", "distance_km"])
    for find in csv.DictReader(finds):
        kiln, distance = nearest(float(find["east"]), float(find["north"]))
        table.writerow([find["sherd"], kiln, repr(distance)])
        print(sherdtext.entry(find["sherd"], find["glaze"]), f"- {kiln}, {distance:.1f} km away")
