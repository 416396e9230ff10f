#!/usr/bin/env python3
"""Fills the walk in README.md with what the demo really prints, or with --check compares it.

The README marks each piece with `<!-- walk: COMMAND -->`, optionally followed by a number of
lines to show (build the program first: `cargo build`); the piece is the demo's output of that command, at 80 columns, without colour.
"""

import os
import re
import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
README = ROOT / "README.md"


def demo():
    """The demo's output by command: each with its prompt line, the last run of it wins."""
    program = ROOT / "target" / "debug" / "stubble"
    env = {**os.environ, "COLUMNS": "80", "NO_COLOR": "1"}
    with tempfile.TemporaryDirectory() as folder:
        out = subprocess.run([program, "demo"], cwd=folder, env=env, capture_output=True, text=True, check=True).stdout
    pieces, name = {}, None
    for line in out.splitlines():
        if line.startswith("$ stubble "):
            name = line.split()[2]
            while name in pieces:
                name += "-again"
            pieces[name] = [line]
        elif line.startswith("# ") or line.startswith("The machine and the case stay"):
            name = None
        elif name:
            pieces[name].append(line)
    return {name: "\n".join(lines).rstrip().splitlines() for name, lines in pieces.items()}


def main():
    pieces = demo()
    text = README.read_text(encoding="utf-8")

    def fill(match):
        name, most = match.group(1), match.group(2)
        lines = pieces[name]
        if most and len(lines) > int(most):
            lines = lines[: int(most)] + ["..."]
        return f"<!-- walk: {name}{' ' + most if most else ''} -->\n```text\n" + "\n".join(lines) + "\n```\n"

    pattern = r"<!-- walk: ([\w-]+)(?: (\d+))? -->\n```text\n.*?```\n"
    filled, count = re.subn(pattern, fill, text, flags=re.S)
    assert count > 5, "the README has no walk"
    if "--check" in sys.argv:
        if filled != text:
            sys.exit("README.md: the walk is not what the demo prints; run scripts/readme-walk.py")
        print(f"{count} pieces of the walk are what the demo prints")
    else:
        README.write_text(filled, encoding="utf-8")


main()
