"""Web servers with PHP as small sites have them: nginx with PHP-FPM, and Apache with PHP in it; each private."""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
import tempfile
import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from systems import free_port, program, wait_for
from vetrin.config import RelayHost, WebAccess
from vetrin.remote.relay.file import NAME, RelayFile
from vetrin.remote.relay.host import RelayedHost, open_exchange
from vetrin.remote.relay.sealing import RelayKey

# What a small host allows, as its php.ini has it.
SMALL: Mapping[str, str] = {
    "max_execution_time": "30", "memory_limit": "128M", "post_max_size": "8M", "upload_max_filesize": "2M",
}  # fmt: skip

_NGINX = """
daemon off;
user {user};
worker_processes 1;
pid {folder}/nginx.pid;
error_log {folder}/nginx.log;
events {{ worker_connections 64; }}
http {{
  access_log off;
  client_body_temp_path {folder}/body; fastcgi_temp_path {folder}/fcgi; proxy_temp_path {folder}/proxy;
  scgi_temp_path {folder}/scgi; uwsgi_temp_path {folder}/uwsgi;
  types {{ text/html html; text/css css; image/png png; }}
  server {{
    listen 127.0.0.1:{port} {tls};
    {certificate}
    root {root};
    client_max_body_size {largest};
    index index.php index.html;
    {guard}
    location / {{ try_files $uri $uri/ /index.php?$args; }}
    location ~ \\.php$ {{
      {php}
    }}
  }}
}}
"""
_FASTCGI = """
      try_files $uri =404;
      fastcgi_pass unix:{folder}/fpm.sock;
      fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name;
      fastcgi_param SCRIPT_NAME $fastcgi_script_name; fastcgi_param DOCUMENT_ROOT $document_root;
      fastcgi_param REQUEST_METHOD $request_method; fastcgi_param CONTENT_TYPE $content_type;
      fastcgi_param CONTENT_LENGTH $content_length; fastcgi_param QUERY_STRING $query_string;
      fastcgi_param REQUEST_URI $request_uri; fastcgi_param SERVER_PROTOCOL $server_protocol;
      fastcgi_param REMOTE_ADDR $remote_addr; fastcgi_param SERVER_SOFTWARE nginx;
      fastcgi_param HTTP_HOST $http_host; fastcgi_param SERVER_NAME $server_name;
      fastcgi_param REDIRECT_STATUS 200; fastcgi_param HTTPS $https if_not_empty;
"""
_FPM = """
[global]
daemonize = no
error_log = {folder}/fpm.log
[www]
user = {user}
group = {user}
listen = {folder}/fpm.sock
listen.owner = {user}
listen.group = {user}
listen.mode = 0666
pm = static
pm.max_children = {workers}
catch_workers_output = yes
{settings}
"""
_APACHE = """
ServerRoot {folder}
PidFile {folder}/apache.pid
ErrorLog {folder}/apache.log
Listen 127.0.0.1:{port}
ServerName 127.0.0.1
User #{uid}
Group #{gid}
LoadModule mpm_prefork_module {modules}/mod_mpm_prefork.so
LoadModule authz_core_module {modules}/mod_authz_core.so
LoadModule authn_core_module {modules}/mod_authn_core.so
LoadModule authn_file_module {modules}/mod_authn_file.so
LoadModule auth_basic_module {modules}/mod_auth_basic.so
LoadModule authz_user_module {modules}/mod_authz_user.so
LoadModule dir_module {modules}/mod_dir.so
LoadModule mime_module {modules}/mod_mime.so
LoadModule rewrite_module {modules}/mod_rewrite.so
LoadModule php_module {php}
TypesConfig /etc/mime.types
StartServers 2
MinSpareServers 1
MaxSpareServers 3
MaxRequestWorkers {workers}
DocumentRoot {root}
{settings}
<Directory {root}>
  AllowOverride All
  DirectoryIndex index.php
  {guard}
</Directory>
<FilesMatch "\\.php$">
  SetHandler application/x-httpd-php
</FilesMatch>
"""


def _fpm() -> str:
    """PHP-FPM, whose name tells its version."""
    found = sorted(Path("/usr/sbin").glob("php-fpm*"))
    return str(found[-1]) if found else program("php-fpm")


@dataclass
class WebHost:
    """``root`` behind a web server; PHP runs as ``user``. ``guard`` is a name and password that it asks for, ``tls`` a
    certificate and its key, ``largest`` the bodies that nginx takes, ``runs`` whether it runs PHP at all."""

    root: Path
    kind: str = "nginx"
    user: str = "root"
    settings: Mapping[str, str] = field(default_factory=lambda: dict(SMALL))
    workers: int = 4
    guard: tuple[str, str] | None = None
    tls: tuple[Path, Path] | None = None
    largest: str = "8m"
    runs: bool = True

    def __post_init__(self) -> None:
        self.port = free_port()
        # A socket's path may be 107 bytes long at most.
        self.folder = Path(tempfile.mkdtemp(prefix="vetrin-web-"))
        self.folder.chmod(0o755)
        self._processes: list[subprocess.Popen[bytes]] = []

    @property
    def address(self) -> str:
        return f"http{'s' if self.tls else ''}://127.0.0.1:{self.port}"

    def start(self) -> None:
        (self._nginx if self.kind == "nginx" else self._apache)()
        wait_for(f"http://127.0.0.1:{self.port}/")  # which answers a question in clear, too

    def _run(self, *words: str) -> None:
        with (self.folder / "out.log").open("ab") as log:
            self._processes.append(
                subprocess.Popen(words, stdout=log, stderr=log, start_new_session=True)
            )

    def _guarded(self) -> str:
        if self.guard is None:
            return ""
        name, password = self.guard
        made = subprocess.run(
            ["openssl", "passwd", "-apr1", password], capture_output=True, text=True, check=True
        )
        (self.folder / "users").write_text(f"{name}:{made.stdout.strip()}\n")
        return str(self.folder / "users")

    def _nginx(self) -> None:
        php = ""
        if self.runs:
            settings = "\n".join(
                f"php_admin_value[{name}] = {value}" for name, value in self.settings.items()
            )
            pool = self.folder / "fpm.conf"
            pool.write_text(
                _FPM.format(
                    folder=self.folder, user=self.user, workers=self.workers, settings=settings
                )
            )
            self._run(_fpm(), "-R", "-F", "-y", str(pool))
            php = _FASTCGI.format(folder=self.folder)
        users = self._guarded()
        configuration = self.folder / "nginx.conf"
        configuration.write_text(
            _NGINX.format(
                folder=self.folder,
                port=self.port,
                root=self.root,
                user="root",
                largest=self.largest,
                php=php,
                guard=f'auth_basic "closed"; auth_basic_user_file {users};' if users else "",
                tls="ssl" if self.tls else "",
                certificate=f"ssl_certificate {self.tls[0]}; ssl_certificate_key {self.tls[1]};"
                if self.tls
                else "",
            )
        )
        self._run(program("nginx"), "-c", str(configuration))
        deadline = time.monotonic() + 20
        while self.runs and not (self.folder / "fpm.sock").exists() and time.monotonic() < deadline:
            time.sleep(0.05)

    def _apache(self) -> None:
        import pwd

        account = pwd.getpwnam("www-data" if self.user == "root" else self.user)
        users = self._guarded()
        guard = (
            f'AuthType Basic\n  AuthName "closed"\n  AuthUserFile {users}\n  Require valid-user'
            if users
            else "Require all granted"
        )
        modules = "/usr/lib/apache2/modules"
        settings = "\n".join(
            f"php_admin_value {name} {value}" for name, value in self.settings.items()
        )
        configuration = self.folder / "apache.conf"
        configuration.write_text(
            _APACHE.format(
                folder=self.folder,
                port=self.port,
                root=self.root,
                modules=modules,
                workers=self.workers,
                uid=account.pw_uid,
                gid=account.pw_gid,
                settings=settings,
                guard=guard,
                php=next(Path(modules).glob("libphp*.so")),
            )
        )
        self._run(
            program("apache2"), "-d", str(self.folder), "-f", str(configuration), "-DFOREGROUND"
        )

    def workers_of_php(self) -> list[int]:
        """The processes that answer requests."""
        found = []
        for process in self._processes:
            told = subprocess.run(
                ["pgrep", "-P", str(process.pid)], capture_output=True, text=True, check=False
            )
            found += [int(pid) for pid in told.stdout.split()]
        return found

    def stop(self) -> None:
        for process in self._processes:
            process.terminate()
        for process in self._processes:
            with contextlib.suppress(subprocess.TimeoutExpired):
                process.wait(10)
            if process.poll() is None:
                os.killpg(process.pid, 9)
                process.wait()
        self._processes.clear()

    def __enter__(self) -> WebHost:
        self.start()
        return self

    def __exit__(self, *more: object) -> None:
        self.stop()
        shutil.rmtree(self.folder, ignore_errors=True)


def authority(folder: Path) -> tuple[Path, tuple[Path, Path]]:
    """A private authority, and a certificate of its for this machine, with its key."""
    openssl = program("openssl")

    def run(*words: str) -> None:
        subprocess.run([openssl, *words], check=True, capture_output=True, cwd=folder)

    run(
        "req",
        "-x509",
        "-newkey",
        "rsa:2048",
        "-nodes",
        "-subj",
        "/CN=Our own",
        "-keyout",
        "ca.key",
        "-out",
        "ca.pem",
    )
    run(
        "req",
        "-newkey",
        "rsa:2048",
        "-nodes",
        "-subj",
        "/CN=127.0.0.1",
        "-keyout",
        "key",
        "-out",
        "asked",
    )
    (folder / "names").write_text("subjectAltName=IP:127.0.0.1\n")
    run(
        "x509",
        "-req",
        "-in",
        "asked",
        "-CA",
        "ca.pem",
        "-CAkey",
        "ca.key",
        "-CAcreateserial",
        "-extfile",
        "names",
        "-out",
        "pem",
    )
    return folder / "ca.pem", (folder / "pem", folder / "key")


@dataclass
class Relayed:
    """A relay that was laid behind a web server, and the key to it."""

    web: WebHost
    key: RelayKey
    file: Path

    @property
    def url(self) -> str:
        return f"{self.web.address}/{self.file.relative_to(self.web.root)}"

    def host(self, environment: str = "production") -> RelayHost:
        return RelayHost.parse(self.url, environment, WebAccess())

    def connect(self) -> RelayedHost:
        """As the command line does, with the key at hand."""
        exchange = open_exchange(self.host(), self.key)
        said = exchange.hello()
        exchange.measure(1 << 16)
        return RelayedHost(self.host(), exchange, said)


def lay_relay(web: WebHost, *, writes: bool = True, root: str = "", **more: Any) -> Relayed:
    """Put a relay into the root of a web server; ``root`` leads from there to the folder that it serves."""
    key = RelayKey.new()
    now = int(time.time())
    values = {"made": now, "until": now + 86_400, **more}
    text = RelayFile("Harrowmere", "production", "the tests", writes=writes, root=root, **values)
    file = web.root / NAME.format(key.id.hex())
    file.write_bytes(text.text(key))
    file.chmod(0o644)
    return Relayed(web, key, file)
