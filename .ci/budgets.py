#!/usr/bin/env python3
"""Runs the benches that have a budget, one after the other on a machine with nothing else to do, and says which rows hold and
which do not. `--until-missed` gives up at the first row that does not hold. Growth fills three stores with a million sessions each, so
a run takes some twenty minutes. PostgreSQL and Redis have to be installed."""

import pathlib
import re
import subprocess
import sys

ROOT = pathlib.Path(__file__).resolve().parent.parent
# With the number of rows that each has; with fewer, something was left out.
BENCHES = [
    (["tokens"], 6),
    (["plan"], 10),
    (["revocations"], 4),
    (["guard"], 7),
    (["renewal", "redis"], 2),
    (["renewal", "sqlite", "postgres"], 6),
    (["hostile"], 41),
    (["growth", "1000000"], 6),
]
AT_MOST, AT_LEAST = "at most", "at least"
UNITS = {"ns": 1e-6, "µs": 1e-3, "ms": 1, "s": 1_000}


def milliseconds(text):
    number, unit = re.fullmatch(r"([\d.]+)(ns|µs|ms|s)", text).groups()
    return float(number) * UNITS[unit]


def rows(bench, line):
    """The rows in one line of a bench's output: name, what was measured, which way it is bounded, its budget."""
    if bench == "tokens":
        if found := re.match(r"check +(\S+) +\d+ +\d+ +([\d.]+) +([\d.]+) ", line):
            yield f"check {found[1]}", float(found[2]), AT_MOST, float(found[3])
        if found := re.match(r"check seen +(\S+) +\d+ +(\d+) +[\d.]+ +(\d+) ns", line):
            yield f"seen before {found[1]}, ns", float(found[2]), AT_MOST, float(found[3])
    elif bench == "plan":
        if found := re.match(r"((?:GET|POST) \S+) +(\d+) ns +(\d+) ns +([\d.]+)", line):
            yield f"decision {found[1]}, ns", float(max(found[2], found[3], key=int)), AT_MOST, 400
            yield f"decision {found[1]}, of 1,000 routes against 10", float(found[4]), AT_MOST, 1.5
    elif bench == "revocations":
        if found := re.match(r" *(\d+) entries \(budget (\d+) ns\): ([\d.]+\S+) for", line):
            yield f"look-up among {found[1]}, ns", milliseconds(found[3]) * 1e6, AT_MOST, float(found[2])
    elif bench == "guard":
        if found := re.match(r"(.+?) +\d+/s without .*ratio ([\d.]+) \(budget ([\d.]+)\)", line):
            yield f"guard, {found[1]}", float(found[2]), AT_LEAST, float(found[3])
    elif bench == "renewal":
        if found := re.match(r"(\S+) +(\d+) at once: .*ratio ([\d.]+) and ([\d.]+) \(budget ([\d.]+)", line):
            ratio = {"4": found[3], "16": found[4]}.get(found[2])
            if ratio is not None:
                yield f"renewal, {found[1]}, {found[2]} at once", float(ratio), AT_LEAST, float(found[5])
        if found := re.match(r"(\S+) +with a million sessions: ([\d.]+) .*\(budget ([\d.]+)\)", line):
            yield f"renewal, {found[1]}, cost among a million", float(found[2]), AT_MOST, float(found[3])
    elif bench == "hostile":
        if found := re.match(r"(\S.*?) +[\d.]+ µs +[\d.]+ µs +([\d.]+)", line):
            yield f"hostile, {found[1]}", float(found[2]), AT_MOST, 10
    elif bench == "growth":
        if found := re.match(r"(\w+): ended everything in (\S+) \(budget (\S+) ms\);.* longest (\S+), .* (\S+)", line):
            budget, before = float(found[3]), milliseconds(found[5])
            yield f"ending everything, {found[1]}, ms", milliseconds(found[2]), AT_MOST, budget
            # Held up is whoever waits for longer than it takes, and than renewals wait without it.
            yield f"the longest renewal beside it, {found[1]}, ms", milliseconds(found[4]), AT_MOST, max(budget, before)


def run(bench, *arguments):
    command = ["cargo", "bench", "--quiet", "-p", "vorsel", "--all-features", "--bench", bench]
    command += ["--", *arguments] if arguments else []
    process = subprocess.Popen(command, cwd=ROOT, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
    try:
        yield from (line.rstrip("\n") for line in process.stdout)
    finally:
        # Whoever gives up closes the pipe, on which the bench ends and stops its servers.
        process.stdout.close()
        status = process.wait()
    if status != 0:
        sys.exit(f"the bench {bench} ended with {status}")


def main():
    gives_up = sys.argv[1:] == ["--until-missed"]
    if sys.argv[1:] and not gives_up:
        sys.exit(f"expected nothing or --until-missed, but found {' '.join(sys.argv[1:])}")
    names = [argument for (bench, *_), _ in BENCHES for argument in ("--bench", bench)]
    subprocess.run(["cargo", "bench", "-p", "vorsel", "--all-features", "--no-run", *names], cwd=ROOT, check=True)
    held, missed = 0, []
    for (bench, *arguments), expected in BENCHES:
        count, output = 0, run(bench, *arguments)
        for line in output:
            print(line, flush=True)
            for name, measured, way, budget in rows(bench, line):
                count += 1
                row = f"{name}: expected {way} {budget:g}, but found {measured:g}"
                if measured <= budget if way == AT_MOST else measured >= budget:
                    held += 1
                else:
                    missed.append(f"missed: {row}")
            if missed and gives_up:
                output.close()
                sys.exit(missed[0])
        if count != expected:
            missed.append(f"missed: expected {expected} rows with a budget from the bench {bench}, but found {count}")
    print("\n".join([f"{held} rows hold", *missed]))
    sys.exit(1 if missed else 0)


if __name__ == "__main__":
    main()
