#!/usr/bin/env python3
"""How long a survey of a running Windows takes beside a bare enumeration of the same, in Wine.

    scripts/here-speed.py STUBBLE.EXE [RUNS]

Makes a Windows with 10,000 keys and 100,000 files more than it has, and runs both in turns. Needs what
scripts/windows-suite.sh installs."""

import os
import re
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
KEYS, FILES = 10_000, 100_000


def main():
    program, runs = Path(sys.argv[1]).resolve(), int(sys.argv[2]) if len(sys.argv) > 2 else 5
    with tempfile.TemporaryDirectory() as folder:
        folder = Path(folder)
        subprocess.run([ROOT / "scripts/windows-prefix.sh", folder], check=True)
        env = {key: value for key, value in os.environ.items() if key != "DISPLAY"}
        env |= {"HOME": str(folder / "home"), "XDG_DATA_HOME": str(folder / "home"), "WINEPREFIX": str(folder / "prefix")}
        env |= {"WINEDEBUG": "-all", "WINEDLLOVERRIDES": "winemenubuilder.exe=d;winedbg.exe=d;mscoree=d;mshtml=d"}
        drive = folder / "prefix/drive_c"
        work = drive / "work"
        work.mkdir()
        (work / "stubble.exe").write_bytes(program.read_bytes())
        source = ROOT / "benchmarks/windows/enumerate.c"
        subprocess.run(["x86_64-w64-mingw32-gcc", "-O2", "-s", "-o", work / "enumerate.exe", source], check=True)
        empty = ROOT / "judges/products/program.c"
        subprocess.run(["x86_64-w64-mingw32-gcc", "-O1", "-s", "-o", work / "empty.exe", empty], check=True)
        grow(drive, work)

        def wine(*words):
            out = work / "out.txt"
            with out.open("wb") as told:
                began = time.perf_counter()
                done = subprocess.run(["wine", *words], env=env, cwd=work, stdout=told, stderr=told)
            return done.returncode, time.perf_counter() - began, out.read_text(errors="replace")

        subprocess.run(["wineserver", "-p"], env=env, check=True)
        try:
            wine("reg", "import", "grow.reg")
            bare, ours, starts, empties, counted = [], [], [], [], ""
            for number in range(runs):
                _, _, told = wine("enumerate.exe")
                counted = told.strip()
                bare.append(sum(int(ms) for ms in re.findall(r"-ms (\d+)", told)) / 1000)
                code, took, told = wine("stubble.exe", "capture", f"{number}.capture", "--on", "here")
                assert code == 0, told
                ours.append(took)
                for _ in range(4):
                    starts.append(wine("stubble.exe", "--help")[1])
                    empties.append(wine("empty.exe")[1])
        finally:
            subprocess.run(["wineserver", "-k", "-w"], env=env)
        print(counted)
        print(f"bare enumeration:            median {statistics.median(bare):.2f} s, fastest {min(bare):.2f} s")
        print(f"stubble capture, with start: median {statistics.median(ours):.2f} s, fastest {min(ours):.2f} s")
        for name, times in [("stubble --help:              ", starts), ("a program that does nothing: ", empties)]:
            print(f"{name}median {statistics.median(times) * 1000:.0f} ms, fastest {min(times) * 1000:.0f} ms")
        ratios = [a / b for a, b in zip(ours, bare)]
        print(f"ratio:                       median {statistics.median(ratios):.2f}")


def grow(drive, work):
    """More keys and files, of nobody."""
    lines = ["Windows Registry Editor Version 5.00", ""]
    for number in range(KEYS):
        lines += [f"[HKEY_LOCAL_MACHINE\\SOFTWARE\\Grown\\{number % 100}\\{number}]", f'"Number"="{number}"', '"Kind"=dword:00000007', ""]
    (work / "grow.reg").write_bytes("\ufeff".encode("utf-16-le") + "\r\n".join(lines).encode("utf-16-le"))
    for number in range(FILES):
        folder = drive / "Grown" / str(number // 200)
        if number % 200 == 0:
            folder.mkdir(parents=True)
        (folder / f"file {number}.dat").write_bytes(b"x" * (number % 7))


if __name__ == "__main__":
    main()
