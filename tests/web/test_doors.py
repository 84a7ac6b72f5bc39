"""Who is let in: keys, cookies and bodies of strangers; connections that idle; and a start that can't be made."""

import http.client
import os
import re
import shutil
import socket
import stat
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

from sivrel.store import database
from sivrel.web.access.routes import FREE_TRIES, admits
from sivrel.web.app import create_app
from sivrel.web.serving import MOST_OF_STRANGERS, MOST_OPEN


class Folder(unittest.TestCase):
    def setUp(self):
        made = tempfile.TemporaryDirectory()
        self.addCleanup(made.cleanup)
        self.data = Path(made.name) / "data"


class Keys(Folder):
    def app(self, key: str | None, where: str = "0.0.0.0:1"):
        database.create(self.data).close()
        return create_app(self.data, access_key=key, where=where)

    def test_an_old_cookie_does_not_open_a_new_start(self):
        old = self.app("old key")
        client = old.test_client()
        self.come_in(client, "old key")
        self.assertEqual(client.get("/").status_code, 200)
        name = old.config["SESSION_COOKIE_NAME"]
        cookie = client.get_cookie(name).value
        new = self.app("new key")
        self.assertEqual(new.config["SESSION_COOKIE_NAME"], name)
        stranger = new.test_client()
        stranger.set_cookie(name, cookie)
        self.assertEqual(stranger.get("/").headers["Location"], "/door")
        self.assertFalse(admits(new, {"COOKIE": f"{name}={cookie}"}))
        self.assertTrue(admits(old, {"COOKIE": f"{name}={cookie}"}))

    def test_without_a_key_forms_survive_a_restart(self):
        first, second = (self.app(None) for _ in range(2))
        self.assertEqual(first.config["SECRET_KEY"], second.config["SECRET_KEY"])

    def test_two_servers_on_one_host_keep_their_cookies_apart(self):
        names = {self.app("k", f"0.0.0.0:{port}").config["SESSION_COOKIE_NAME"] for port in (1, 2)}
        self.assertEqual(len(names), 2)

    def test_wrong_keys_have_to_wait_longer_and_longer(self):
        app = self.app("the key")
        client = app.test_client()
        token = self.token(client)
        codes = [client.post("/door", data={"csrf_token": token, "key": "no"}).status_code for _ in range(FREE_TRIES + 2)]
        self.assertEqual(codes, [422] * FREE_TRIES + [429, 429])
        waiting = client.post("/door", data={"csrf_token": token, "key": "the key"})
        self.assertEqual((waiting.status_code, int(waiting.headers["Retry-After"]) >= 0), (429, True))
        other = client.post("/door", data={"csrf_token": token, "key": "the key"}, environ_base={"REMOTE_ADDR": "10.0.0.9"})
        self.assertEqual(other.status_code, 302)

    def test_the_body_of_a_stranger_is_not_parsed(self):
        client = self.app("k").test_client()
        answer = client.post("/shots", data=b"x" * 200_000, content_type="multipart/form-data; boundary=b")
        self.assertEqual(answer.headers["Location"], "/door")

    def token(self, client) -> str:
        return re.search(r'name="csrf_token" value="([^"]+)"', client.get("/door").text)[1]

    def come_in(self, client, key: str) -> None:
        client.post("/door", data={"csrf_token": self.token(client), "key": key})


class Served(Folder):
    """The program as it is started, on this machine's own addresses."""

    def start(self, *arguments: str) -> tuple[int, str]:
        """Port and key of a server over the folder."""
        command = [sys.executable, "-m", "sivrel", "serve", "--port", "0", "--data", str(self.data), *arguments]
        server = subprocess.Popen(command, stderr=subprocess.PIPE, text=True)
        self.addCleanup(server.stderr.close)
        self.addCleanup(server.wait)
        self.addCleanup(server.terminate)
        port, key = 0, ""
        for line in server.stderr:
            if found := re.search(r"http://\S+:(\d+)", line):
                port = int(found[1])
                if "--host" not in arguments:
                    break
            if found := re.search(r"key: (\S+)", line):
                key = found[1]
                break
        return port, key

    def test_a_large_body_of_a_stranger_is_refused_at_its_header(self):
        port, _ = self.start("--host", "0.0.0.0")
        for head in ("Content-Length: 64000000", "Transfer-Encoding: chunked"):
            with socket.create_connection(("127.0.0.1", port), timeout=30.0) as door:
                door.sendall(f"POST /shots HTTP/1.1\r\nHost: x\r\nContent-Type: multipart/form-data; boundary=b\r\n{head}\r\n\r\n".encode())
                answer = door.recv(1000)
            self.assertIn(b"413", answer.split(b"\r\n")[0], head)
        connection = http.client.HTTPConnection("127.0.0.1", port, timeout=30.0)
        connection.request("POST", "/door", body=b"key=" + b"x" * (MOST_OF_STRANGERS // 2))
        self.assertIn(connection.getresponse().status, (400, 422))
        connection.close()

    def test_idle_connections_block_nobody(self):
        port, _ = self.start()
        idle = []
        self.addCleanup(lambda: [connection.close() for connection in idle])
        for k in range(MOST_OPEN + 60):
            connection = socket.create_connection(("127.0.0.1", port), timeout=30.0)
            if k % 2:
                connection.sendall(b"GET / HTTP/1.1\r\nHost: loc")  # a header that never ends
            idle.append(connection)
        connection = http.client.HTTPConnection("127.0.0.1", port, timeout=60.0)
        connection.request("GET", "/status.json", headers={"Host": "localhost"})
        self.assertEqual(connection.getresponse().status, 200)
        connection.close()

    def test_nobody_else_may_read_the_folder(self):
        self.data.mkdir(mode=0o755)
        database.create(self.data).close()
        (self.data / database.FILE).chmod(0o644)
        (self.data / "uploads").mkdir(mode=0o755)
        self.start()
        end = time.monotonic() + 60.0
        while not (self.data / "worker.lock").exists() and time.monotonic() < end:
            time.sleep(0.1)
        for path in (self.data, *self.data.glob("*")):
            self.assertEqual(stat.S_IMODE(path.stat().st_mode) & 0o077, 0, path)


class Starts(Folder):
    """A start that can't be made is reported in one sentence, and exits with 2."""

    def refused(self, *arguments: str, command: str = "serve") -> str:
        done = subprocess.run(
            [sys.executable, "-m", "sivrel", command, "--data", str(self.data), *arguments], capture_output=True, text=True, timeout=120
        )
        self.assertEqual(done.returncode, 2, done.stderr)
        self.assertRegex(done.stderr, r"^sivrel: [^\n]+\.\n$")
        return done.stderr

    def test_ports_and_hosts(self):
        with socket.socket() as taken:
            taken.bind(("127.0.0.1", 0))
            taken.listen()
            self.assertIn("can't be used", self.refused("--port", str(taken.getsockname()[1])))
        self.refused("--port", "70000")
        self.refused("--port", "0", "--host", "no.such.host.invalid")
        self.refused("--port", "0", "--host", "a" * 300)

    def test_folders(self):
        self.data.parent.joinpath("file").write_text("x")
        whole, self.data = self.data, self.data.parent / "file"
        self.assertIn("data folder", self.refused("--port", "0"))
        self.data = Path("/proc/sivrel")
        self.refused("--port", "0")
        self.data = whole
        for name in ("secret", "worker.lock", database.FILE):
            (whole / name).mkdir(parents=True)
            self.assertIn(name, self.refused("--port", "0"))
            shutil.rmtree(whole)
        whole.mkdir()
        (whole / "pictures").write_text("x")
        self.assertIn("pictures", self.refused("--port", "0"))

    def test_databases(self):
        database.create(self.data).execute("PRAGMA user_version = 999")
        self.assertIn("newer", self.refused("--port", "0"))
        (self.data / database.FILE).write_bytes(os.urandom(50_000))
        for name in ("-wal", "-shm"):
            self.data.joinpath(database.FILE + name).unlink(missing_ok=True)
        self.assertIn("damaged", self.refused("--port", "0", command="demo"))


if __name__ == "__main__":
    unittest.main()
