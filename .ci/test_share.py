#!/usr/bin/env python3
"""Prints how much of the Rust lines is tests: files under tests/ and testing/, and test modules at the end of a file."""

import pathlib
import subprocess
import sys

ROOT = pathlib.Path(__file__).resolve().parent.parent
LOWEST, HIGHEST = 25, 100 / 3

tests = others = 0
for name in subprocess.run(
    ["git", "ls-files", "*.rs"], cwd=ROOT, check=True, capture_output=True, text=True
).stdout.splitlines():
    lines = (ROOT / name).read_text().splitlines()
    if "/tests/" in name or "/testing/" in name or name.endswith("/tests.rs"):
        tests += len(lines)
        continue
    begin = next((i for i, line in enumerate(lines) if line == "#[cfg(test)]" and "mod tests" in lines[i + 1]), len(lines))
    others += begin
    tests += len(lines) - begin

share = 100 * tests / (tests + others)
print(f"tests: {tests} of {tests + others} Rust lines, {share:.1f} % (wanted: a quarter to a third)")
sys.exit(0 if LOWEST <= share <= HIGHEST else 1)
