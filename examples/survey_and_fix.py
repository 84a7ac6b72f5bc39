"""Look a scene over, take the first fix of each finding, and write the fixed scene: `python survey_and_fix.py demo:keepers-kitchen OUT.glb`."""

import sys

import sivrel

shot = sivrel.open(sys.argv[1])
edits = {}
for finding in shot.survey().findings:
    print(f"{finding.severity}: {finding.title}")
    for fix in finding.mends[:1]:
        print(f"  taken: {fix.words}")
        edits.update(fix.edits)
for sentence in shot.export(sys.argv[2], edits):
    print(f"  not in the file: {sentence}")
