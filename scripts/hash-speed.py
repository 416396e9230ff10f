#!/usr/bin/env python3
"""How fast files are compared with a footprint, beside b3sum on the same files, in pairs.

Makes a disk in a temporary folder whose product has many small files and a few large ones. What is timed of
Stubble is the whole command, so that the reading of the machine counts as well. `b3sum` is the program of the
blake3 project, `cargo install b3sum`; name it where it is not on the path.
"""
import json, os, pathlib, shutil, statistics, subprocess, sys, tempfile, time

HERE = pathlib.Path(__file__).resolve().parent.parent
STUBBLE = HERE / "target/release/stubble"
B3SUM = sys.argv[1] if len(sys.argv) > 1 else shutil.which("b3sum")
SMALL, LARGE, PAIRS = 8000, 4, 7


def timed(command, **more):
    began = time.perf_counter()
    done = subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, **more)
    return time.perf_counter() - began, done.returncode


with tempfile.TemporaryDirectory() as folder:
    folder = pathlib.Path(folder)
    subprocess.run([STUBBLE, "demo", "--keep", folder / "demo"], check=True, stdout=subprocess.DEVNULL)
    bench = folder / "demo/bench"
    tree = bench / "disk/Program Files/Fennelgate/Scale Desk/models"
    tree.mkdir(parents=True)
    block = os.urandom(1 << 20)
    for number in range(SMALL):
        (tree / f"{number:05}.dat").write_bytes(block[number : number + 40_000 + number])
    for number in range(LARGE):
        with open(tree / f"large-{number}.bin", "wb") as file:
            for part in range(256):
                file.write(part.to_bytes(2) + block)
    files = sorted(tree.iterdir())
    sums = subprocess.run([B3SUM, *files], check=True, capture_output=True, text=True).stdout
    lines = ['format = "stubble.footprint/1"', 'name = "Quernlight Scale Desk"']
    for line in sums.splitlines():
        digest, path = line.split("  ", 1)
        inside = "\\".join(pathlib.Path(path).relative_to(bench / "disk/Program Files").parts)
        lines += ["[[file]]", f"path = '%ProgramFiles%\\{inside}'", f"size = {os.path.getsize(path)}", f'blake3 = "{digest}"']
    print_file = folder / "desk.toml"
    print_file.write_text("\n".join(lines) + "\n")
    size = sum(os.path.getsize(file) for file in files)
    ours = [STUBBLE, "footprint", "compare", print_file, "--on", f"bench:{bench}", "--json"]
    told = subprocess.run(ours, capture_output=True, text=True)
    installed = json.loads(told.stdout)["installed"]
    assert installed["files"] == len(files) and installed["findings"] == [], installed["findings"][:3]
    ratios, times = [], []
    for pair in range(PAIRS):
        order = [ours, [B3SUM, *files]]
        found = [timed(command)[0] for command in (order if pair % 2 else order[::-1])]
        own, peer = found if pair % 2 else found[::-1]
        ratios.append(own / peer)
        times.append((own, peer))
    own, peer = (statistics.median(side) for side in zip(*times))
    print(f"{len(files)} files, {size / 1e9:.2f} GB: Stubble {own:.2f} s ({size / own / 1e9:.2f} GB/s), "
          f"b3sum {peer:.2f} s, ratio {statistics.median(ratios):.2f} ({min(ratios):.2f} to {max(ratios):.2f})")
