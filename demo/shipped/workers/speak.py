#!/usr/bin/env python3
"""A worker for Fonex: stays alive and speaks with espeak-ng. The protocol is in docs/transports.md."""
import json
import subprocess
import sys


def say(**answer):
    """One line of JSON, at once: what is held back in a buffer is measured as latency."""
    print(json.dumps(answer), flush=True)


def version():
    return subprocess.run(["espeak-ng", "--version"], capture_output=True, text=True, check=True).stdout.strip()


def speak(request):
    voice, speed = request["voice"] or "en-gb", request["settings"].get("speed", "160")
    command = ["espeak-ng", "-v", voice, "-s", speed, "-w", request["output"], "--stdin"]
    done = subprocess.run(command, input=request["text"], capture_output=True, text=True)
    if done.returncode != 0:
        return {"outcome": "refused", "detail": done.stderr.strip() or f"exit code {done.returncode}"}
    return {"audio": request["output"]}


def main():
    # Whatever takes long, such as loading a model, comes before this line: it is start-up, not latency.
    say(ready=1, name=version())
    for line in sys.stdin:
        request = json.loads(line)
        if request["do"] != "speak":
            say(id=request["id"], outcome="refused", detail="this worker only speaks")
            continue
        say(id=request["id"], **speak(request))


if __name__ == "__main__":
    main()
