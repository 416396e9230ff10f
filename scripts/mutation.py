#!/usr/bin/env python3
"""Breaks conditions on purpose, one at a time, and looks whether a test sees it.

    scripts/mutation.py                      every seventh condition of the files below
    scripts/mutation.py --every 1 decide     every condition of the files whose path has "decide" in it

All faults are built into one copy of the program, each behind a number in an environment variable: it is compiled once,
however many there are. A condition is that of an `if`, of an arm of a `match`, or of a closure that chooses (`any`,
`all`, `filter`, `find`, `is_some_and`, `retain`, `position`); its fault is its opposite. The table at the end names
what no test saw: each is a test that is missing, a condition that another one repeats, or one without effect.
"""

import argparse
import json
import os
import re
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
# What is broken, and the test programs that have to see it, the quickest first: package, test target, options.
CORE = [("stubble-core", "lib", []), ("stubble-core", "suite", []), ("stubble-worlds", "suite", [])]
GOLDEN = ("stubble", "golden", [])
FILES = {
    "crates/core/src/trace/decide.rs": CORE + [GOLDEN],
    "crates/core/src/trace/of_install.rs": CORE + [GOLDEN],
    "crates/core/src/permits/*.rs": CORE + [GOLDEN],
    "crates/core/src/plan/validate.rs": CORE + [GOLDEN],
    "crates/machine/src/edits.rs": [("stubble-machine", "suite", []), ("stubble-ledger", "suite", ["--skip", "power"]), GOLDEN],
    "crates/hive/src/edit.rs": [("stubble-hive", "lib", []), ("stubble-hive", "suite", []), ("stubble-machine", "suite", [])],
    "crates/ledger/src/steps/*.rs": [("stubble-ledger", "suite", ["--skip", "power"]), GOLDEN, ("stubble-ledger", "suite", [])],
    "crates/ledger/src/carry_out.rs": [("stubble-ledger", "suite", ["--skip", "power"]), GOLDEN, ("stubble-ledger", "suite", [])],
}
CHOOSERS = r"\.(?:any|all|filter|find|is_some_and|is_none_or|retain|position)\(\|[^|]*\| "
SWITCH = """
/// Whether a condition holds, or its opposite where this is the fault that is tried.
#[doc(hidden)]
pub(crate) fn faulty(number: u32, holds: bool) -> bool {
    static WHICH: std::sync::LazyLock<Option<u32>> =
        std::sync::LazyLock::new(|| std::env::var("STUBBLE_FAULT").ok().and_then(|text| text.parse().ok()));
    holds != (*WHICH == Some(number))
}
"""


def blank(text):
    """The text with comments and what is in quotes replaced by spaces, so that only code is looked at."""
    quoted = r'//[^\n]*|"(?:\\.|[^"\\])*"|\'(?:\\[^\']+|[^\'\\])\''
    return re.sub(quoted, lambda found: " " * len(found.group()), text)


def end_of(code, start, ends):
    """Where an expression ends: at one of `ends` outside of its own brackets. None where it holds a block."""
    depth = 0
    for at in range(start, len(code)):
        if depth == 0 and any(code.startswith(end, at) for end in ends):
            return at
        letter = code[at]
        if letter in "([":
            depth += 1
        elif letter in ")]":
            depth -= 1
            if depth < 0:
                return at if ")" in ends else None
        elif letter in "{};":
            return None
    return None


def conditions(text):
    """Start and end of every condition, in the order of the file; tests at the end of a file are left out."""
    code = blank(text)
    code = code[: code.find("#[cfg(test)]")] if "#[cfg(test)]" in code else code
    found = set()
    for match in re.finditer(r"\bif (?!let\b)", code):
        end = end_of(code, match.end(), [" {\n", " { ", " =>"])
        if end and " let " not in code[match.end() : end]:
            found.add((match.end(), end))
    for match in re.finditer(CHOOSERS, code):
        end = end_of(code, match.end(), [")"])
        if end and not code[match.end() : end].lstrip().startswith("match"):
            found.add((match.end(), end))
    return sorted(found)


def broken(text, first):
    """The text with a fault at every condition, numbered from `first`, and where each is."""
    spots = conditions(text)
    # One inside of another is left alone: both would have to be written into each other.
    spots = [spot for spot in spots if not any(other != spot and other[0] <= spot[0] and spot[1] <= other[1] for other in spots)]
    told, parts, last = [], [], 0
    for start, end in spots:
        number = first + len(told)
        parts += [text[last:start], f"crate::faulty({number}, {text[start:end]})"]
        told.append((number, text.count("\n", 0, start) + 1, " ".join(text[start:end].split())))
        last = end
    return "".join(parts) + text[last:], told


def programs(folder, env):
    """Builds every test program; its path by package and target."""
    command = ["cargo", "test", "--workspace", "--locked", "--no-run", "--message-format=json-render-diagnostics"]
    out = subprocess.run(command, cwd=folder, env=env, stdout=subprocess.PIPE, text=True, check=True).stdout
    found = {}
    for line in re.findall(r'^\{"reason":"compiler-artifact".*$', out, re.M):
        built = json.loads(line)
        if built.get("executable") and built["profile"]["test"]:
            manifest = Path(built["manifest_path"]).parent
            package = re.search(r'^name = "(.*)"', (manifest / "Cargo.toml").read_text(), re.M).group(1)
            kind = "lib" if "lib" in built["target"]["kind"] else built["target"]["name"]
            found[package, kind] = (built["executable"], manifest)
    return found


def main():
    args = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    args.add_argument("--every", type=int, default=7, help="try every N-th condition [7]")
    args.add_argument("paths", nargs="*", help="parts of paths of files [all]")
    args = args.parse_args()
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch) / "tree"
        subprocess.run(["git", "clone", "-q", str(ROOT), str(folder)], check=True)
        faults, crates = [], set()
        for pattern, tests in FILES.items():
            for path in sorted(folder.glob(pattern)):
                name = str(path.relative_to(folder))
                if args.paths and not any(part in name for part in args.paths):
                    continue
                text, told = broken(path.read_text(), len(faults) + 1)
                path.write_text(text)
                crates.add(path.parts[len(folder.parts) + 1])
                faults += [(number, name, line, condition, tests) for number, line, condition in told]
        for crate in crates:
            lib = folder / "crates" / crate / "src/lib.rs"
            lib.write_text(lib.read_text() + SWITCH)
        env = dict(os.environ, CARGO_TARGET_DIR=os.environ.get("CARGO_TARGET_DIR", str(ROOT / "target/mutation")))
        env.pop("STUBBLE_FAULT", None)
        tests_by_name = programs(folder, env)
        seen, missed = 0, []
        for number, name, line, condition, tests in faults[:: args.every]:
            began, by = time.time(), None
            for package, target, options in tests:
                program, cwd = tests_by_name[package, target]
                try:
                    code = subprocess.run([program, *options], cwd=cwd, env=dict(env, STUBBLE_FAULT=str(number)),
                                          stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, timeout=1800).returncode
                except subprocess.TimeoutExpired:
                    code = "never ends"
                if code != 0:
                    by = f"{package} {target}"
                    break
            seen += by is not None
            if by is None:
                missed.append((name, line, condition))
            print(f"{number:4} {name}:{line}  {by or 'NOT SEEN':24} {time.time() - began:5.0f} s  {condition[:70]}", flush=True)
        tried = seen + len(missed)
        print(f"\n{seen} of {tried} faults were seen ({100 * seen / max(tried, 1):.0f} %), of {len(faults)} conditions")
        for name, line, condition in missed:
            print(f"not seen: {name}:{line}  {condition}")
    sys.exit(seen < 0.9 * tried)


if __name__ == "__main__":
    main()
