"""A catalogue of finds: a line for each sherd, with the kiln nearest to where it was found."""

import csv

import sherdtext
from kilns import nearest

with open("finds.csv", newline="") as stream:
    for find in csv.DictReader(stream):
        kiln, distance = nearest(float(find["east"]), float(find["north"]))
        print(sherdtext.entry(find["sherd"], find["glaze"]), f"- {kiln}, {distance:.1f} km away")
