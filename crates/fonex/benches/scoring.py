"""The work of `fonex score` in Python with a general-purpose edit-distance library written in C++ (pip install rapidfuzz).

Usage: python3 scoring.py FOLDER [--words-alone], with corpus.jsonl and heard.jsonl in it. Counts of words and characters
of each slice only: no interval, no kinds of mistakes, no slices by length. With --words-alone not even characters and slices.
"""
import json
import re
import sys
import time

from rapidfuzz.distance import Levenshtein

SIGNS = re.compile(r"[^\w\s']")


def words(text):
    return SIGNS.sub(" ", text.lower()).split()


start = time.perf_counter()
folder, words_alone = sys.argv[1], "--words-alone" in sys.argv
with open(folder + "/heard.jsonl") as lines:
    heard = {record["id"]: record["text"] for record in map(json.loads, lines)}
with open(folder + "/corpus.jsonl") as lines:
    clips = [json.loads(line) for line in lines]
parsed = time.perf_counter()
counts = {}
for clip in clips:
    said, got = words(clip["text"]), words(heard[clip["id"]])
    edits = {"replace": 0, "delete": 0, "insert": 0}
    for edit in Levenshtein.editops(said, got):
        edits[edit.tag] += 1
    if words_alone:
        sums = counts.setdefault(("all", ""), [0, 0, 0, 0])
        for at, number in enumerate([len(said), *edits.values()]):
            sums[at] += number
        continue
    characters = Levenshtein.distance(" ".join(said), " ".join(got))
    for key in [("all", "")] + list(clip["tags"].items()) + [("speaker", clip["speaker"])]:
        sums = counts.setdefault(key, [0, 0, 0, 0, 0, 0])
        for at, number in enumerate([len(said), *edits.values(), characters, 1]):
            sums[at] += number
done = time.perf_counter()
total = counts["all", ""]
print(f"{len(clips)} clips, {total[0]} words, WER {sum(total[1:4]) / total[0]:.4f}")
print(f"parsing {parsed - start:.2f} s, in all {done - start:.2f} s")
