"""Scores a corpus in parts on the workers of a Dask cluster, and puts the parts together.

python score_parts.py CORPUS RESULTS PARTS [SCHEDULER]

Corpus and results stand where every worker finds them under the same names; each worker has fonex on its PATH. Without the address of a
scheduler, workers of this machine are used.
"""

import pathlib
import subprocess
import sys
import tempfile

from dask.distributed import Client


def part(corpus, results, share, folder):
    """One part, as the file that it was written to. A part that fails is told with what Fonex said, and may be tried on another worker."""
    written = pathlib.Path(folder) / f"{share.replace('/', '-of-')}.part"
    command = ["fonex", "score", corpus, results, "--part", share, "-o", str(written), "--quiet"]
    done = subprocess.run(command, capture_output=True, text=True)
    if done.returncode != 0:
        raise RuntimeError(f"part {share}: {done.stderr.strip()}")
    return str(written)


def main():
    corpus, results, parts = sys.argv[1], sys.argv[2], int(sys.argv[3])
    client = Client(sys.argv[4]) if len(sys.argv) > 4 else Client(n_workers=2, threads_per_worker=1, dashboard_address=None)
    folder = tempfile.mkdtemp(prefix="parts-", dir=".")
    shares = [f"{number}/{parts}" for number in range(1, parts + 1)]
    # A worker that vanishes costs its parts again, and nothing else: a part is written whole or not at all.
    files = client.gather(client.map(part, [corpus] * parts, [results] * parts, shares, [folder] * parts, retries=2))
    subprocess.run(["fonex", "merge", *files], check=True)
    client.close()


if __name__ == "__main__":
    main()
