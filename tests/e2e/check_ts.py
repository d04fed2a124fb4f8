"""Reads a transport stream and judges it: continuity counters, how far apart PCRs, and PAT and PMT are (ISO/IEC 13818-1).
check_ts.py [MS]: how much longer a machine that was held up may have let it wait."""
import sys

data = sys.stdin.buffer.read()
last, faults, jumps, pcrs, tables, waiting = {}, 0, 0, [], {0: [], 0x7A0: []}, []
for at in range(0, len(data) - 187, 188):
    p = data[at:at + 188]
    faults += p[0] != 0x47
    pid, counter, payload = (p[1] & 31) << 8 | p[2], p[3] & 15, p[3] >> 4 & 1
    if pid in last:
        faults += counter != (last[pid] + payload) % 16
    last[pid] = counter
    if pid in tables:
        waiting.append(pid)
    if p[3] & 0x20 and p[4] >= 7 and p[5] & 0x10:
        base = int.from_bytes(p[6:10], "big") << 1 | p[10] >> 7
        pcrs.append((base * 300 + ((p[10] & 1) << 8 | p[11])) / 27e3)
        jumps += p[5] >> 7
        for table in waiting:  # a table goes right before a PCR: the same instant
            tables[table].append(pcrs[-1])
        waiting = []
slack = float(sys.argv[1]) if len(sys.argv) > 1 else 0
apart = max(b - a for a, b in zip(pcrs, pcrs[1:]))
backward = sum(b < a for a, b in zip(pcrs, pcrs[1:]))
rest = max(b - a for times in tables.values() for a, b in zip(times, times[1:]))
good = faults + jumps == 0 and backward == 0 and len(pcrs) > 100 and apart <= 40 + slack and rest <= 100 + slack
print(f"{len(data) // 188} packets, {faults} faults, {len(pcrs)} PCRs at most {apart:.1f} ms apart, tables {rest:.1f} ms:",
      "in order" if good else "NOT in order")
