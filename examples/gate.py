"""Render a shot and fail when something is plain to see in the picture: `python gate.py demo:slipway [WxH] [TIMES_THRESHOLD]`.

For a build server: the exit code is the number of findings that are more than so many times what the eye just sees (default 4).
"""

import sys

import sivrel

shot = sivrel.open(sys.argv[1])
size = (480, 270) if len(sys.argv) < 3 else tuple(int(n) for n in sys.argv[2].split("x"))
limit = float(sys.argv[3]) if len(sys.argv) > 3 else 4.0
picture = shot.render("exterior", size=size)
findings = [finding for finding in shot.diagnose(picture, seconds=10.0).findings if finding.seen > limit]
for finding in findings:
    print(f"{finding.title} {finding.cause}")
    for remedy in finding.remedies[:1]:
        print(f"  remedy: {remedy.words} {remedy.changes}")
sys.exit(min(len(findings), 100))
