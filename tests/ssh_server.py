"""A private OpenSSH server: own keys, own port, own home for the one who connects."""

from __future__ import annotations

import contextlib
import os
import shutil
import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import systems

# What the four kinds of hosts that people meet are configured with.
PLAIN: tuple[str, ...] = ()
SFTP_ONLY = ("ForceCommand internal-sftp", "AllowTcpForwarding no", "AllowStreamLocalForwarding no")
NO_FORWARDING = ("AllowTcpForwarding no", "AllowStreamLocalForwarding no")
SHELL_LESS = "www-data"  # an account of Debian's whose shell is nologin


class SshServer:
    """``home`` is a home folder whose SSH configuration knows the host as ``name``."""

    def __init__(self, folder: Path, options: tuple[str, ...] = PLAIN, user: str = "root") -> None:
        self.folder = folder
        self.port = systems.free_port()
        self.user = user
        self.options = options
        self.home = folder / "home"
        self.name = "railway-host"
        ssh = self.home / ".ssh"
        ssh.mkdir(parents=True, mode=0o700)
        folder.chmod(0o755)
        for file in (folder / "host-key", ssh / "id_ed25519"):
            subprocess.run(
                ["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "made for a test", "-f", str(file)],
                check=True,
            )  # fmt: skip
        shutil.copy(ssh / "id_ed25519.pub", folder / "keys")
        kind, key, *_ = (folder / "host-key.pub").read_text().split()
        self.known = f"[127.0.0.1]:{self.port} {kind} {key}\n"
        (ssh / "known_hosts").write_text(self.known)
        (ssh / "config").write_text(
            f"Host {self.name}\n  HostName 127.0.0.1\n  Port {self.port}\n  User {user}\n"
            f"  IdentityFile {ssh}/id_ed25519\n"
        )
        self.process: subprocess.Popen[bytes] | None = None
        self.start()

    def start(self) -> None:
        lines = [
            f"Port {self.port}", "ListenAddress 127.0.0.1", f"HostKey {self.folder}/host-key",
            f"PidFile {self.folder}/pid", f"AuthorizedKeysFile {self.folder}/keys", "StrictModes no",
            "UsePAM no", "PasswordAuthentication no", "Subsystem sftp internal-sftp",
            "MaxSessions 60", "MaxStartups 100", "PerSourcePenalties no", *self.options,
        ]  # fmt: skip
        configuration = self.folder / "sshd_config"
        if b"PerSourcePenalties" not in _said_by_sshd():
            lines.remove("PerSourcePenalties no")
        configuration.write_text("\n".join(lines) + "\n")
        with contextlib.suppress(PermissionError):
            Path("/run/sshd").mkdir(exist_ok=True)
        self.process = subprocess.Popen(
            [systems.program("sshd"), "-D", "-e", "-f", str(configuration)],
            stderr=(self.folder / "log").open("ab"),
        )
        deadline = time.monotonic() + 20
        while time.monotonic() < deadline:
            with (
                contextlib.suppress(OSError),
                socket.create_connection(("127.0.0.1", self.port), 1),
            ):
                return
            time.sleep(0.05)
        raise RuntimeError((self.folder / "log").read_text())

    def stop(self) -> None:
        """End the server and all that it serves."""
        if self.process is not None:
            self.drop()
            self.process.terminate()
            self.process.wait(10)
            self.process = None

    def drop(self) -> int:
        """Cut all connections, as a network does that fails; how many there were.

        Who serves one is found by its socket: newer servers are no children of the one that listens.
        """
        lines = Path("/proc/net/tcp").read_text().splitlines()[1:]
        fields = [line.split() for line in lines]
        sockets = {
            f"socket:[{one[9]}]"
            for one in fields
            if one[1].endswith(f":{self.port:04X}") and one[3] == "01"
        }
        found = 0
        for process in Path("/proc").glob("[0-9]*"):
            with contextlib.suppress(OSError):
                if not (process / "comm").read_text().startswith("sshd"):
                    continue
                if sockets & {str(file.readlink()) for file in (process / "fd").iterdir()}:
                    os.kill(int(process.name), 9)
                    found += 1
        return found


def _said_by_sshd() -> bytes:
    found = subprocess.run(
        [systems.program("sshd"), "-T", "-f", "/dev/null", "-o", "HostKey=/dev/null"],
        capture_output=True, check=False,
    )  # fmt: skip
    return found.stdout + found.stderr


@contextlib.contextmanager
def ssh_server(options: tuple[str, ...] = PLAIN, user: str = "root") -> Iterator[SshServer]:
    # Not in pytest's folder: every account has to be able to read the keys.
    folder = Path(tempfile.mkdtemp(prefix="vetrin-ssh-"))
    server = SshServer(folder, options, user)
    try:
        yield server
    finally:
        server.stop()
        shutil.rmtree(folder)
