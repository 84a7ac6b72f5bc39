"""The served program with a helper: proofs, caches and findings are made there, and the pages say so."""

import os
from unittest import mock

from sivrel.store import jobs, machines, requests
from tests.cluster.machines import Machines, until
from tests.web.test_caches import PHOTONS
from tests.web.test_lights import WithWorker


class Served(WithWorker):
    @classmethod
    def setUpClass(cls):
        cls.machines = cls.enterClassContext(Machines())
        cls.machines.start()
        cls.enterClassContext(mock.patch.dict(os.environ, {"SIVREL_SCHEDULER": cls.machines.address}))
        super().setUpClass()
        cls.worker.helpers.start()
        until(lambda: machines.elsewhere(cls.db).threads == 1)

    def parts(self) -> int:
        return self.worker.helpers.cluster.parts

    def test_a_proof_and_its_caches_and_findings(self):
        self.prove(**{**PHOTONS, "photon_map.count": "40000", "width": "96", "height": "54", "sampling.max": "16"})
        before = self.parts()
        self.worker._render(jobs.take(self.worker.db))
        proof = self.newest()
        self.assertEqual((proof.state, proof.meters["spent"]["where"]), ("done", "1 helper"))
        kinds = {kind for one in self.worker.helpers.cluster.members.values() for kind in one.took}
        self.assertLessEqual({"TileWork", "PhotonWork"}, kinds)
        self.assertGreater(self.parts(), before)
        said = " ".join(self.client.get(f"/proofs/{proof.id}.json").json["meters"])
        self.assertRegex(said, "by the clock, .* of all processors, on 1 thread of 1 helper")
        before = self.parts()
        fields = {"csrf_token": self.token(), "seconds": "4"}
        number = self.client.post(f"/proofs/{proof.id}/diagnose", data=fields, headers={"HX-Request": "true"}).json["question"]
        until(lambda: (requests.answered(self.db, number)[0] or {"done": False}).get("done", True))
        self.assertEqual(requests.answered(self.db, number)[1], "")
        self.assertGreater(self.parts(), before)
        part = self.client.get("/machines/helpers").text
        self.assertIn("1 thread in all", part)
        self.assertIn("this machine", part)

    def test_the_same_bytes_as_without(self):
        def made() -> str:
            self.prove(**{"sampling.max": "4", "width": "96", "height": "54", "seed": "77"})
            self.worker._render(jobs.take(self.worker.db))
            return self.newest().picture

        there = made()
        with mock.patch.object(self.worker.helpers, "cluster", None):
            self.assertEqual(made(), there)


del WithWorker
