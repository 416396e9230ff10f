#!/usr/bin/env python3
"""Checks a receipt of Stubble with nothing of Stubble's: its seal, and that the case's journal holds it.

    check-receipt.py RECEIPT [JOURNAL]

The seal is the SHA-256 of the receipt without its field `seal`, as JSON with sorted names, without white space and
with letters as they are (docs/format-case.md).
"""
import hashlib
import json
import sys


def main() -> int:
    with open(sys.argv[1], encoding="utf-8") as file:
        receipt = json.load(file)
    seal = receipt.pop("seal", "")
    plain = json.dumps(receipt, sort_keys=True, separators=(",", ":"), ensure_ascii=False)
    if hashlib.sha256(plain.encode("utf-8")).hexdigest() != seal:
        print("the receipt is not as it was written")
        return 1
    if len(sys.argv) > 2:
        with open(sys.argv[2], encoding="utf-8") as file:
            lines = [json.loads(line) for line in file]
        pairs = zip(lines, lines[1:])
        if not any(b.get("seal") == seal and a["chain"] == receipt["journal"] for a, b in pairs):
            print("the receipt does not stand in the journal")
            return 1
    print("the receipt is as it was written")
    return 0


if __name__ == "__main__":
    sys.exit(main())
