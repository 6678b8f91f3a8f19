"""Our verdict on several hundred generated chains, held against ``openssl verify``."""

import re
import subprocess
from collections import Counter

import pytest

from pewter.pki import build_paths, life_of
from support.certificates import NOW, parsed, store
from support.generated_chains import Generated, generate
from support.servers import need

EXPLAINED = {
    "RFC 5280 section 4.1.2.5: notAfter itself still counts; openssl stops there": re.compile(r"ends-now"),
    "RFC 5280 section 4.2.1.12: anyExtendedKeyUsage allows every use, as browsers read it; openssl does not": re.compile(
        r"for-anything"
    ),
    "RFC 5280 section 6.1.1 (d): of the anchor only name, key and name constraints count; openssl checks it whole": re.compile(
        r": (expired|not-yet-valid|no-cert-sign|path-length-0|for-clients|unknown-critical) / good / leaf good"
        r"$"
    ),
}


def our_verdict(of: Generated) -> str:
    leaf = parsed(of.leaf)
    best = build_paths(leaf, [leaf, *map(parsed, of.sent)], [store(of.root)], NOW)[0]
    life = life_of(leaf)
    if best.is_valid and not life.is_over(NOW) and not life.is_ahead(NOW):
        return "accepts"
    return "refuses: " + ("; ".join(fault.detail for fault in best.faults) or "dates of the leaf")


def openssl_verdict(of: Generated, folder) -> str:
    for name, octets in (
        ("root.pem", of.root.pem),
        ("sent.pem", b"".join(each.pem for each in of.sent)),
        ("leaf.pem", of.leaf.pem),
    ):
        (folder / name).write_bytes(octets)
    untrusted = ["-untrusted", "sent.pem"] if of.sent else []
    result = subprocess.run(
        ["openssl", "verify", "-policy_check", "-purpose", "sslserver", "-attime", str(int(NOW.timestamp())),
         "-no-CApath", "-no-CAstore", "-CAfile", "root.pem", *untrusted, "leaf.pem"],
        capture_output=True, text=True, cwd=folder,
    )  # fmt: skip
    return "accepts" if result.returncode == 0 else f"refuses: {result.stderr.strip().splitlines()[-2:]}"


@pytest.mark.real_server
def test_agrees_with_openssl_verify(tmp_path):
    need("openssl")
    counts: Counter[str] = Counter()
    open_cases = []
    for of in generate():
        ours, theirs = our_verdict(of), openssl_verdict(of, tmp_path)
        agree = ours.split(":")[0] == theirs.split(":")[0]
        reason = next((reason for reason, pattern in EXPLAINED.items() if pattern.search(of.title)), None)
        counts[f"both {ours.split(':')[0]}" if agree else f"explained: {reason}" if reason else "open"] += 1
        if not agree and (reason is None or ours != "accepts"):
            open_cases.append((of.title, ours, theirs))
    print(f"{sum(counts.values())} generated chains:", dict(counts))
    assert not open_cases, "\n".join(map(str, open_cases))
    assert sum(counts.values()) >= 400
    assert min(counts["both accepts"], counts["both refuses"]) >= 100
