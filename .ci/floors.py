#!/usr/bin/env python3
"""Shows that the modules of core and library form layers without circles, and that the rooms lie on the floors that
docs/architecture.md gives them: an import between two rooms leads to a lower floor.

Read from `use` statements and from paths in the code, tests at the end of a file left out. What a `mod.rs` re-exports counts
as an import from the file that has it."""

import pathlib
import re
import sys

ROOT = pathlib.Path(__file__).resolve().parent.parent
FLOORS = {
    "vorsel-core": [
        {"causes", "spelling", "finding", "encoding", "time", "credential"},
        {"key"},
        {"keyring"},
        {"token"},
        {"rule", "verify", "revocations"},
        {"plan", "session"},
        {"answer"},
    ],
    "vorsel": [
        {"audit", "meters", "live", "clock", "random", "plan_file", "under_way", "waiting"},
        {"store", "clients", "throttle", "password", "outgoing"},
        {"keys", "tickets", "keeper"},
        {"checker", "revocations", "admission"},
        {"access", "remote", "introspection"},
        {"sessions", "guard"},
        {"endpoints", "testing", "settings"},
    ],
}


def code_of(path):
    text = path.read_text().split("\n#[cfg(test)]\nmod tests")[0]
    return re.sub(r"//[^\n]*|\"(?:\\.|[^\"\\])*\"", "", text)


def leaves(tree):
    """The paths of a use tree: `a::{b, c::{self, d}}` is a::b, a::c and a::c::d."""
    tree = tree.strip()
    brace = tree.find("{")
    if brace < 0:
        return [re.split(r"\s+as\s+", tree)[0].removesuffix("::self")]
    head, inside, depth, part, parts = tree[:brace], tree[brace + 1 : tree.rindex("}")], 0, "", []
    for character in inside + ",":
        depth += (character == "{") - (character == "}")
        if character == "," and depth == 0:
            parts.append(part)
            part = ""
        else:
            part += character
    return [(head + leaf).removesuffix("::self") for part in parts if part.strip() for leaf in leaves(part)]


class Crate:
    def __init__(self, source):
        self.modules = {}
        for path in sorted(source.rglob("*.rs")):
            parts = path.relative_to(source).with_suffix("").parts
            name = parts[:-1] if parts[-1] in ("mod", "lib") else parts
            self.modules[name] = code_of(path)
        self.exports = {name: self.exports_of(name) for name in self.modules}

    def exports_of(self, module):
        """Where a module gets each name from that it re-exports."""
        exports = {}
        for tree in re.findall(r"\bpub(?:\([^)]*\))?\s+use\s+([^;]+);", self.modules[module]):
            for leaf in leaves(re.sub(r"\s+", " ", tree)):
                exports[leaf.split("::")[-1]] = leaf
        return exports

    def resolve(self, module, path, depth=0):
        """The module that a path written in `module` leads to, or nothing if it leaves the crate."""
        parts = path.replace(" ", "").split("::")
        if parts[0] == "crate":
            base, parts = (), parts[1:]
        elif parts[0] == "self":
            base, parts = module, parts[1:]
        elif parts[0] == "super":
            base = module
            while parts and parts[0] == "super":
                base, parts = base[:-1], parts[1:]
        elif module + (parts[0],) in self.modules:
            base = module
        else:
            return None
        while parts and base + (parts[0],) in self.modules:
            base, parts = base + (parts[0],), parts[1:]
        if parts and depth < 8 and parts[0] in self.exports.get(base, {}):
            further = self.resolve(base, self.exports[base][parts[0]], depth + 1)
            if further is not None:
                return further
        return base

    def arrows(self):
        """For each module those that it imports from; what it re-exports is not used by it."""
        arrows = {}
        for module, code in self.modules.items():
            paths = []
            for tree in re.findall(r"(?<!pub )(?<!\) )\buse\s+([^;]+);", code):
                paths += leaves(re.sub(r"\s+", " ", tree))
            body = re.sub(r"\buse\s+[^;]+;", "", code)
            paths += re.findall(r"\b(?:crate|super)(?:::\w+)+", body)
            targets = {self.resolve(module, path) for path in paths}
            arrows[module] = {target for target in targets if target is not None and target != module}
        return arrows


def circles(arrows):
    """Groups of modules that can reach each other."""
    reach = {}
    for start in arrows:
        seen, open_ = set(), [start]
        while open_:
            for target in arrows.get(open_.pop(), ()):
                if target not in seen:
                    seen.add(target)
                    open_.append(target)
        reach[start] = seen
    groups = {frozenset(other for other in reach[one] if one in reach.get(other, ())) for one in arrows if one in reach[one]}
    return [sorted("::".join(module) or "lib" for module in group) for group in groups]


problems, count = [], 0
for name, floors in FLOORS.items():
    crate = Crate(ROOT / "crates" / name / "src")
    arrows = crate.arrows()
    count += len(arrows)
    problems += [f"{name}: a circle: {', '.join(circle)}" for circle in circles(arrows)]
    floor = {room: level for level, rooms in enumerate(floors, 1) for room in rooms}
    for module, targets in arrows.items():
        for target in targets:
            one, other = module[:1], target[:1]
            if not one or one == other:
                continue
            if not other:
                problems.append(f"{name}: {'::'.join(module)} imports from the table of contents")
            elif floor.get(one[0], 0) <= floor.get(other[0], 99):
                problems.append(f"{name}: {'::'.join(module)} imports from {'::'.join(target)}, which is not below it")
    unknown = {module[0] for module in arrows if module} - set(floor)
    problems += [f"{name}: the room {room} is on no floor" for room in sorted(unknown)]

print("\n".join(problems) or f"{count} modules, no circle, every arrow between rooms leads down")
sys.exit(1 if problems else 0)
