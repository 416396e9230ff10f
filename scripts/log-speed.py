#!/usr/bin/env python3
"""Times `stubble diagnose` on a verbose log of 300 MB in UTF-16, beside iconv on the same file. Needs a release build."""
import statistics
import subprocess
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
SAMPLE = ROOT / "crates/core/tests/logs/service-did-not-start.log"
ROUNDS = 7


def grown(path):
    """The sample log with so many lines of registry and property changes in its middle that it has 300 MB."""
    lines = SAMPLE.read_bytes()[2:].decode("utf-16-le").split("\r\n")
    prefix = "MSI (s) (2C:70) [06:40:03:120]: "
    fill = "".join(
        f"{prefix}Executing op: RegAddValue(Name=value{number},Value=#%some text for the registry,)\r\n"
        f"{prefix}PROPERTY CHANGE: Adding Part{number % 50} property. Its value is 'C:\\Program Files\\Fennelgate\\{number}.dll'.\r\n"
        for number in range(2000)
    ).encode("utf-16-le")
    with open(path, "wb") as file:
        file.write(b"\xff\xfe" + ("\r\n".join(lines[:4]) + "\r\n").encode("utf-16-le"))
        for _ in range(300_000_000 // len(fill)):
            file.write(fill)
        file.write("\r\n".join(lines[4:]).encode("utf-16-le"))


def seconds(command):
    began = time.perf_counter()
    subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    return time.perf_counter() - began


def megabytes(command):
    """The most that a command has held, by what the kernel tells while it runs."""
    most = 0
    running = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    while running.poll() is None:
        told = [line for line in Path(f"/proc/{running.pid}/status").read_text().splitlines() if line.startswith("VmHWM")]
        most = max([most, *(int(line.split()[1]) / 1e3 for line in told)])
        time.sleep(0.01)
    return most


def main():
    with tempfile.TemporaryDirectory() as folder:
        log = Path(folder) / "setup.log"
        grown(log)
        size = log.stat().st_size / 1e6
        ours = [ROOT / "target/release/stubble", "diagnose", log, "--case", folder + "/none"]
        peer = ["iconv", "-f", "UTF-16", "-t", "UTF-8", "-o", "/dev/null", log]
        memory = megabytes(ours)
        pairs = [(seconds(ours), seconds(peer)) for _ in range(ROUNDS)]
    for name, times in [("stubble diagnose", [pair[0] for pair in pairs]), ("iconv", [pair[1] for pair in pairs])]:
        median = statistics.median(times)
        print(f"{name}: median {median:.3f} s, {size / median:.0f} MB/s; fastest {min(times):.3f} s")
    ratio = statistics.median(one / other for one, other in pairs)
    print(f"ratio of the medians within pairs: {ratio:.2f}")
    print(f"memory of stubble diagnose at most: {memory:.1f} MB")


main()
