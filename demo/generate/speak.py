#!/usr/bin/env python3
"""Speak the demo lines with espeak-ng and write down where its library says each word is.

usage: speak.py LINES.tsv FOLDER

Needs Debian's espeak-ng. For each line of LINES.tsv it writes FOLDER/ID.wav (one channel, the library's own rate) and
FOLDER/ID.words.json: a list of {"text", "start", "end"} in seconds, taken from the library's own word and phoneme events.
"""
import csv
import ctypes
import json
import os
import re
import sys
import wave

RETRIEVAL, PHONEME_EVENTS, UTF8 = 1, 1, 1
TERMINATED, WORD, END, PHONEME = 0, 1, 5, 7
RATE, PITCH, RANGE, WORDGAP = 1, 3, 4, 7
GO_ON = 0


class Id(ctypes.Union):
    _fields_ = [("number", ctypes.c_int), ("name", ctypes.c_char_p), ("string", ctypes.c_char * 8)]


class Event(ctypes.Structure):
    _fields_ = [("type", ctypes.c_int), ("unique", ctypes.c_uint), ("text_position", ctypes.c_int),
                ("length", ctypes.c_int), ("audio_ms", ctypes.c_int), ("sample", ctypes.c_int),
                ("user_data", ctypes.c_void_p), ("id", Id)]


HANDLER = ctypes.CFUNCTYPE(ctypes.c_int, ctypes.POINTER(ctypes.c_short), ctypes.c_int, ctypes.POINTER(Event))


class Speaker:
    """One loaded library; it keeps what the last call to `speak` produced."""

    def __init__(self):
        self.library = ctypes.CDLL("libespeak-ng.so.1")
        self.rate = self.library.espeak_Initialize(RETRIEVAL, 0, None, PHONEME_EVENTS)
        self.handler = HANDLER(self.collect)
        self.library.espeak_SetSynthCallback(self.handler)

    def collect(self, samples, count, events):
        if samples and count > 0:
            self.audio += ctypes.string_at(samples, count * 2)
        at = 0
        while events[at].type != TERMINATED:
            event = events[at]
            name = event.id.string.decode("utf-8", "replace") if event.type == PHONEME else ""
            self.events.append((event.type, event.text_position, event.length, event.audio_ms, name))
            at += 1
        return GO_ON

    def speak(self, text, voice, rate, pitch):
        self.audio, self.events = bytearray(), []
        if self.library.espeak_SetVoiceByName(voice.encode()) != 0:
            sys.exit(f"speak.py: espeak-ng has no voice {voice}")
        for parameter, value in ((RATE, rate), (PITCH, pitch), (RANGE, 50), (WORDGAP, 1)):
            self.library.espeak_SetParameter(parameter, value, 0)
        data = text.encode() + b"\0"
        self.library.espeak_Synth(data, len(data), 0, 1, 0, UTF8, None, None)
        self.library.espeak_Synchronize()
        return bytes(self.audio)


def first_reading(label):
    """What is spoken of a label with choices: `{going to|gonna}` is spoken "going to"."""
    return re.sub(r"\{([^|}]*)[^}]*\}", r"\1", label)


def word_times(text, events, length_s):
    """The written words of a text with their times: first phoneme to the pause or word behind the last one."""
    words = [(m.start(), m.group()) for m in re.finditer(r"\S+", text)]
    starts, index = {}, None
    for kind, position, _, ms, name in events:
        if kind == WORD:
            index = max((i for i, (at, _) in enumerate(words) if at <= position - 1), default=0)
        elif kind == PHONEME and index is not None and not name.startswith("_"):
            starts.setdefault(index, ms / 1000)
    missing = [w for i, (_, w) in enumerate(words) if i not in starts]
    if missing:
        sys.exit(f"speak.py: no time for {missing} in {text!r}; the library speaks it as one with its neighbour")
    timed = []
    for index, (_, word) in enumerate(words):
        start, until = starts[index], starts.get(index + 1, length_s)
        pauses = [ms / 1000 for kind, _, _, ms, name in events
                  if (kind == END or kind == PHONEME and name.startswith("_")) and start < ms / 1000 <= until]
        timed.append({"text": word.strip(".,?!;:"), "start": round(start, 3), "end": round(min(pauses, default=until), 3)})
    return timed


def main():
    lines, folder = sys.argv[1:]
    os.makedirs(folder, exist_ok=True)
    speaker = Speaker()
    with open(lines, encoding="utf-8", newline="") as file:
        for row in csv.DictReader(file, delimiter="\t"):
            text = first_reading(row["text"])
            audio = speaker.speak(text, row["voice"], int(row["rate"]), int(row["pitch"]))
            with wave.open(os.path.join(folder, row["id"] + ".wav"), "wb") as out:
                out.setparams((1, 2, speaker.rate, 0, "NONE", ""))
                out.writeframes(audio)
            words = word_times(text, speaker.events, len(audio) / 2 / speaker.rate)
            with open(os.path.join(folder, row["id"] + ".words.json"), "w", encoding="utf-8") as out:
                json.dump(words, out, ensure_ascii=False)


main()
