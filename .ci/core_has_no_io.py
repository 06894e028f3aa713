#!/usr/bin/env python3
"""Shows that vorsel-core has no async runtime, no HTTP, and no file, socket, environment or clock access.

Two looks: the crates it is built from, and its own source. Primitives for keys and signatures are allowed; aws-lc-rs
reaches the operating system's randomness to make keys and to sign.
"""

import json
import pathlib
import re
import subprocess
import sys

ROOT = pathlib.Path(__file__).resolve().parent.parent
FORBIDDEN_CRATES = {
    "async-trait", "axum", "futures", "futures-core", "futures-util", "http", "http-body", "hyper", "mio", "redis",
    "reqwest", "rusqlite", "smol", "socket2", "sqlx", "tokio", "tower", "tower-service", "tracing", "ureq",
}
# A moment of the standard library may be handed in; the clock behind it is not asked.
FORBIDDEN_CODE = re.compile(
    r"\bstd::(fs|net|io|env|process|thread)\b|::now\b|\.elapsed\(|\bInstant\b|\basync\b|\.await\b|\bprintln!|\beprintln!"
    r"|\bfs::|\bFile::"
)

tree = subprocess.run(
    ["cargo", "tree", "-p", "vorsel-core", "-e", "normal", "--prefix", "none", "--format", "{p}"],
    cwd=ROOT, check=True, capture_output=True, text=True,
).stdout
crates = {line.split()[0] for line in tree.splitlines() if line.strip()}
problems = [f"vorsel-core is built from {name}" for name in sorted(crates & FORBIDDEN_CRATES)]

for path in sorted((ROOT / "crates/vorsel-core/src").rglob("*.rs")):
    for number, line in enumerate(path.read_text().splitlines(), 1):
        code = line.split("//")[0]
        if FORBIDDEN_CODE.search(code):
            problems.append(f"{path.relative_to(ROOT)}:{number}: {line.strip()}")

features = json.loads(subprocess.run(
    ["cargo", "metadata", "--format-version", "1", "--locked"], cwd=ROOT, check=True, capture_output=True, text=True,
).stdout)
jiff = next(node for node in features["packages"] if node["name"] == "vorsel-core")
jiff = next(dependency for dependency in jiff["dependencies"] if dependency["name"] == "jiff")
if jiff["uses_default_features"] or "std" in jiff["features"]:
    problems.append("vorsel-core asks jiff for its std feature, which reads the clock")

print("\n".join(problems) or f"vorsel-core: {len(crates)} crates, no IO in any line")
sys.exit(1 if problems else 0)
