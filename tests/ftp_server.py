"""A private FTP server with an account of its own, in clear or with TLS: ProFTPD, which is what many hosts have."""

from __future__ import annotations

import contextlib
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path

from systems import free_port, program, wait_for_port

_CONFIGURATION = """
{modules}
ServerType standalone
ServerName made-for-a-test
DefaultAddress 127.0.0.1
Port {port}
User nobody
Group nogroup
PidFile {folder}/pid
ScoreboardFile {folder}/scoreboard
SystemLog {folder}/log
WtmpLog off
UseReverseDNS off
AuthOrder mod_auth_file.c
AuthUserFile {folder}/passwd
RequireValidShell off
DefaultRoot {root}
AllowOverwrite on
AllowRetrieveRestart on
{tls}
"""


@contextlib.contextmanager
def ftp_server(
    root: Path, user: str, word: str, tls: tuple[Path, Path] | None = None
) -> Iterator[int]:
    """Its port; the account sees ``root`` as ``/``."""
    folder = Path(tempfile.mkdtemp(prefix="vetrin-ftp-"))
    folder.chmod(0o755)
    made = subprocess.run(
        [program("openssl"), "passwd", "-6", word], capture_output=True, text=True, check=True
    )
    users = folder / "passwd"
    users.write_text(f"{user}:{made.stdout.strip()}:0:0::{root}:/bin/false\n")
    users.chmod(0o600)
    port = free_port()
    secured = modules = ""
    if tls is not None:
        modules = "ModulePath /usr/lib/proftpd\nLoadModule mod_tls.c"
        secured = (
            f"TLSEngine on\nTLSRequired on\nTLSRSACertificateFile {tls[0]}\nTLSRSACertificateKeyFile {tls[1]}\n"
            "TLSOptions NoSessionReuseRequired\n"
        )
    configuration = folder / "proftpd.conf"
    configuration.write_text(
        _CONFIGURATION.format(folder=folder, port=port, root=root, tls=secured, modules=modules)
        + "RootLogin on\n"
    )
    with (folder / "out").open("wb") as log:
        process = subprocess.Popen(
            [program("proftpd"), "-n", "-q", "-c", str(configuration)], stdout=log, stderr=log, start_new_session=True
        )  # fmt: skip
        try:
            wait_for_port(port)
            yield port
        finally:
            process.terminate()
            process.wait(10)
            shutil.rmtree(folder, ignore_errors=True)
