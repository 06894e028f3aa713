#!/usr/bin/env python3
"""Keeps the listing of the public API in docs/api: shows what a change does to it, and refuses types of crates that are not meant
to be part of it and types without an example.

    .ci/api.py            shows the difference; fails if there is one, or if a foreign crate shows through
    .ci/api.py --write    writes the listing

Each line is an item with its signature as it stands in the source, or a type with the traits that it implements.
"""

import difflib
import json
import os
import pathlib
import subprocess
import sys

ROOT = pathlib.Path(__file__).resolve().parent.parent
LISTINGS = ROOT / "docs" / "api"
STANDARD = {"std", "core", "alloc"}
# Crates whose types the app has in its hands anyway, or whose traits it derives and implements.
FOREIGN = {
    "vorsel_core": {
        "serde_core": "own claims are the app's types",
        "serde_json": "claims of any shape",
        "zeroize": "texts with keys in them are wiped",
    },
    "vorsel": {
        "vorsel_core": "the core, exported as a whole",
        "async_trait": "stores and look-ups are the app's",
        "serde_core": "own claims are the app's types",
        "http": "requests and responses",
        "http_body_util": "the body of an answer is the guard's or the service's",
        "bytes": "the body of an answer",
        "serde_json": "claims of a test caller, of any shape",
        "tower_layer": "layers of the app, and the partial guard is one",
        "tower_service": "the guard is a service",
        "reqwest": "the client's side sends its requests (feature client)",
        "axum": "routes and extractors",
        "tokio": "what a listener's connections are read and written through",
        "axum_core": "extractors",
        "tower_http": "the CORS layer of a page's origins (feature `cors`)",
        "sqlx_core": "a pool of the app's own",
        "sqlx_postgres": "a pool of the app's own",
        "sqlx_sqlite": "a pool of the app's own",
        "redis": "a client of the app's own",
    },
}
SKIPPED_TRAITS = {"StructuralPartialEq", "Freeze", "UnsafeUnpin"}


def rustdoc(crate):
    features = ["--all-features"] if crate == "vorsel" else []
    package = crate.replace("_", "-")
    command = ["cargo", "rustdoc", "--quiet", "-p", package, "--lib", *features, "--", "-Z", "unstable-options"]
    environment = {**os.environ, "RUSTDOC": str(ROOT / ".ci" / "rustdoc-with-json")}
    subprocess.run([*command, "--output-format", "json"], cwd=ROOT, env=environment, check=True)
    return json.loads((ROOT / "target" / "doc" / f"{crate}.json").read_text())


class Api:
    def __init__(self, crate):
        self.crate, self.doc = crate, rustdoc(crate)
        self.index, self.lines, self.foreign, self.seen, self.bare = self.doc["index"], [], {}, set(), []
        self.module(self.item(self.doc["root"]), crate)

    def item(self, id):
        return self.index.get(str(id))

    def kind(self, item):
        return next(iter(item["inner"]))

    def module(self, module, path):
        for id in module["inner"]["module"]["items"]:
            item = self.item(id)
            if item is None or item["visibility"] != "public":
                continue
            inner = item["inner"]
            if "use" in inner:
                target = self.item(inner["use"]["id"])
                if not inner["use"]["is_glob"] and target is not None:
                    self.add(target, f"{path}::{inner['use']['name']}")
            elif "module" in inner:
                self.module(item, f"{path}::{item['name']}")
            else:
                self.add(item, f"{path}::{item['name']}")

    def add(self, item, path):
        if path in self.seen:
            return
        self.seen.add(path)
        kind, inner = self.kind(item), next(iter(item["inner"].values()))
        if kind == "module":
            return self.module(item, path)
        self.note(path, item)
        if kind in ("struct", "enum", "trait") and "```" not in (item["docs"] or ""):
            self.bare.append(path)
        self.lines.append(f"{path}: {self.header(item)}")
        for impl in inner.get("impls", []) if kind in ("struct", "enum", "union") else []:
            self.impl(self.item(impl), path)
        if kind == "struct":
            self.members(inner["kind"].get("plain", {}).get("fields", []) if isinstance(inner["kind"], dict) else [], path)
        if kind == "enum":
            self.members(inner["variants"], path)
        if kind == "trait":
            self.members(inner["items"], path)

    def members(self, ids, path):
        for id in ids:
            item = self.item(id)
            if item is not None and item["name"] is not None:
                self.note(f"{path}::{item['name']}", item)
                self.lines.append(f"{path}::{item['name']}: {self.header(item)}")
                if "variant" in item["inner"]:
                    kind = item["inner"]["variant"]["kind"]
                    fields = kind.get("struct", {}).get("fields", []) if isinstance(kind, dict) else []
                    self.members(fields, f"{path}::{item['name']}")

    def impl(self, item, path):
        impl = item["inner"]["impl"]
        if impl["is_synthetic"] or impl["blanket_impl"] is not None:
            return
        if impl["trait"] is None:
            for id in impl["items"]:
                member = self.item(id)
                if member is not None and member["visibility"] == "public":
                    self.note(f"{path}::{member['name']}", member)
                    self.lines.append(f"{path}::{member['name']}: {self.header(member)}")
        elif impl["trait"]["path"] not in SKIPPED_TRAITS:
            self.note(f"{path} as {impl['trait']['path']}", impl["trait"])
            self.lines.append(f"{path} as {self.spelled(impl['trait'])}")

    def header(self, item):
        """What stands in the source, up to the body."""
        span = item["span"]
        if span is None:
            return ""
        lines = (ROOT / span["filename"]).read_text().split("\n")[span["begin"][0] - 1 : span["end"][0]]
        lines[-1] = lines[-1][: span["end"][1] - 1]
        lines[0] = lines[0][span["begin"][1] - 1 :]
        lines = [line.split("//")[0] for line in lines if not line.strip().startswith(("//", "#["))]
        text, depth = " ".join(" ".join(lines).split()), 0
        for at, character in enumerate(text):
            depth += (character in "([") - (character in ")]")
            if character in "{;" and depth == 0:
                return text[:at].strip()
        return text.strip().rstrip(",")

    def spelled(self, part):
        """A path with its arguments, as far as they tell implementations of one trait apart."""
        if isinstance(part, dict) and "path" in part:
            arguments = ((part.get("args") or {}).get("angle_bracketed") or {}).get("args", [])
            arguments = [self.spelled(next(iter(argument.values()))) for argument in arguments]
            return part["path"] + (f"<{', '.join(arguments)}>" if arguments else "")
        if isinstance(part, str):
            return part
        kind, inner = next(iter(part.items()))
        match kind:
            case "resolved_path":
                return self.spelled(inner)
            case "borrowed_ref":
                return "&" + self.spelled(inner["type"])
            case "slice":
                return f"[{self.spelled(inner)}]"
            case "array":
                return f"[{self.spelled(inner['type'])}; {inner['len']}]"
            case "tuple":
                return f"({', '.join(map(self.spelled, inner))})"
            case _:
                return str(inner)

    def note(self, path, part):
        """Notes the foreign crates whose items a signature names."""
        if isinstance(part, dict):
            if "id" in part and "path" in part:
                known = self.doc["paths"].get(str(part["id"]))
                if known is not None and known["crate_id"] != 0:
                    crate = self.doc["external_crates"][str(known["crate_id"])]["name"]
                    if crate not in STANDARD:
                        self.foreign.setdefault(crate, set()).add(path)
            for key, value in part.items():
                if key not in ("impls", "items", "variants", "links", "implementations", "docs", "attrs"):
                    self.note(path, value)
        elif isinstance(part, list):
            for value in part:
                self.note(path, value)


def main():
    failed = False
    for crate, allowed in FOREIGN.items():
        api, listing = Api(crate), LISTINGS / f"{crate.replace('_', '-')}.txt"
        for name, places in sorted(api.foreign.items()):
            if name not in allowed:
                failed = True
                print(f"{crate} shows items of {name}, which is not among the crates that may show: {', '.join(sorted(places)[:5])}")
        if api.bare:
            failed = True
            print(f"expected an example at every type of {crate}, but found none at {', '.join(api.bare)}")
        new = "\n".join(sorted(set(api.lines))) + "\n"
        if "--write" in sys.argv:
            LISTINGS.mkdir(exist_ok=True)
            listing.write_text(new)
            continue
        old = listing.read_text() if listing.exists() else ""
        change = list(difflib.unified_diff(old.splitlines(), new.splitlines(), f"docs/api/{listing.name}", "this change", lineterm="", n=0))
        if change:
            failed = True
            print("\n".join(change))
        print(f"{crate}: {len(api.lines)} items, foreign crates: {', '.join(sorted(api.foreign)) or 'none'}")
    if failed:
        sys.exit("the public API is not as it should be: read the lines above; .ci/api.py --write takes a change over into docs/api")


main()
