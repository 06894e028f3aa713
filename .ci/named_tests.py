"""Every test that docs/security.md, docs/conformance.md and docs/performance.md name is there:
`file::test`, or `file::tests::test` beside the code.
And every file and folder of the sources that docs/architecture.md names."""

import pathlib
import re
import sys

root = pathlib.Path(__file__).resolve().parent.parent
sources = {}
for path in root.glob("crates/*/**/*.rs"):
    name = path.parent.name if path.stem == "mod" else path.stem
    sources[name] = sources.get(name, "") + path.read_text()
missing = []
count = 0
for page in ("docs/security.md", "docs/conformance.md", "docs/performance.md"):
    for name in re.findall(r"`(\w+(?:::[\w*]+)+)`", (root / page).read_text()):
        file, test = name.split("::")[0], name.split("::")[-1]
        if name == "file::test" or test[0].isupper() or file[0].isupper():
            continue  # the pattern itself, or a type
        count += 1
        if not re.search(r"fn " + test + r"\b", sources.get(file, "")):
            missing.append(f"{page}: {name}")
houses = [path for path in root.glob("crates/**/") if "target" not in path.parts]
for name in re.findall(r"`([a-z_]+/(?:[a-z_]+/)*(?:[a-z_0-9]+\.rs)?)`", (root / "docs/architecture.md").read_text()):
    if not any((house / name).exists() for house in houses):
        missing.append(f"docs/architecture.md: {name}")
print(f"{count} tests are named in the documentation, {len(missing)} of them missing", *missing, sep="\n")
sys.exit(bool(missing or not count))
