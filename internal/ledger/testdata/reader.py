"""Reads journals as docs/file-format.md describes them, and nothing else.

Usage: reader.py FILE...   One line of JSON for each file: what it is (sound,
torn, damaged, newer, foreign), its version, and its entries.
"""
import base64
import datetime
import json
import math
import re
import struct
import sys

TABLE = []
for byte in range(256):
    for _ in range(8):
        byte = byte >> 1 ^ (0x82F63B78 if byte & 1 else 0)
    TABLE.append(byte)


def crc32c(data):
    crc = 0xFFFFFFFF
    for byte in data:
        crc = crc >> 8 ^ TABLE[(crc ^ byte) & 0xFF]
    return crc ^ 0xFFFFFFFF


def intact(line):
    end = re.fullmatch(rb',"crc":"([0-9a-f]{8})"}', line[-18:])
    return bool(end) and crc32c(line[:-18]) == int(end[1], 16)


def once(pairs):
    names = [name for name, _ in pairs]
    if len(set(names)) != len(names):
        raise ValueError("a member twice")
    return dict(pairs)


def parse(line):
    return json.loads(line.decode("utf-8"), object_pairs_hook=once)


def told(x):
    """A value within a list or a map, so that two readers can be compared."""
    if isinstance(x, bool) or x is None or isinstance(x, str):
        return x
    if isinstance(x, int):
        return "int " + str(x)
    if isinstance(x, float):
        return "float " + struct.pack(">d", x).hex()
    if isinstance(x, list):
        return [told(e) for e in x]
    return {name: told(e) for name, e in x.items()}


def value(kind, x):
    if kind == "float":
        x = {"NaN": math.nan, "+Inf": math.inf, "-Inf": -math.inf}.get(x, x) if isinstance(x, str) else x
        return "nan" if math.isnan(x) else struct.pack(">d", x).hex()
    if kind == "time":
        whole, fraction = re.fullmatch(r"([^.Z]*)(?:\.(\d+))?Z", x).groups()
        since = datetime.datetime.fromisoformat(whole) - datetime.datetime(1970, 1, 1)
        return str((since.days * 86400 + since.seconds) * 10**9 + int((fraction or "").ljust(9, "0")))
    if kind in ("bytes", "sealed"):
        return base64.b64decode(x, validate=True).hex()
    return told(x)


def intact_end(stretch):
    """The intact line that ends a stretch, which may have lost the newline before it."""
    if intact(stretch):
        return stretch
    end = len(stretch)
    for _ in range(64):
        at = stretch.rfind(b'{"version":', 0, end)
        if at < 1:
            return None
        if intact(stretch[at:]):
            return stretch[at:]
        end = at + 10
    return None


def promised(rest, last):
    for line in rest.split(b"\n")[:-1]:
        line = intact_end(line)
        if line:
            c = parse(line)
            if c.get("synced", c["version"] - 1) > last:
                return True
    return False


def read(data):
    lines = data.split(b"\n")
    whole = lines[:-1]
    header = None
    if intact(lines[0]):
        header = parse(lines[0])
        if not str(header.get("format", "")).startswith("small-pantry/"):
            header = None
        elif header["format"] != "small-pantry/1":
            return {"is": "newer"}
    if header is None:
        ours = any(line and "version" in parse(line) for line in map(intact_end, whole))
        return {"is": "damaged" if ours else "foreign"}
    if not whole:
        return {"is": "damaged"}

    base, state = header["base"], header["lines"]
    last, entries, offset = 0, {}, len(whole[0]) + 1
    if state == 0:
        last = base
    taken = 0
    for line in whole[1:]:
        if not intact(line):
            break
        c = parse(line)
        if taken < state:
            if not last < c["version"] <= base:
                break
        elif c["version"] != last + c.get("over", 1):
            break
        for e in c.get("set", []):
            entries[e["name"]] = [e["kind"], value(e["kind"], e["value"])]
        for name in c.get("drop", []):
            entries.pop(name, None)
        last = c["version"]
        taken += 1
        if taken == state:
            last = base
        offset += len(line) + 1
    if taken < state or promised(data[offset:], last):
        return {"is": "damaged"}
    return {"is": "torn" if offset < len(data) else "sound", "version": last, "entries": entries}


for path in sys.argv[1:]:
    with open(path, "rb") as f:
        print(json.dumps(read(f.read())))
