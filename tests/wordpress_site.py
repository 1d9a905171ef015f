"""A real WordPress: its files from Debian's package, installed and filled through its own functions."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from dataclasses import dataclass, field
from pathlib import Path

from systems import Mariadb, free_port, program, wait_for

HERE = Path(__file__).parent / "wordpress"
PACKAGE = Path("/usr/share/wordpress")


@dataclass
class WordPress:
    """One WordPress. ``base`` is its folder below the web server's root, with a leading slash."""

    server: Mariadb
    folder: Path
    database: str
    user: str
    password: str
    base: str = ""
    prefix: str = "wp_"
    port: int = field(default_factory=free_port)
    process: subprocess.Popen[bytes] | None = None

    @property
    def root(self) -> Path:
        return self.folder / self.base.lstrip("/") if self.base else self.folder

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{self.port}{self.base}"

    def install(self, configuration: str, fill: str) -> None:
        """Lay out files and database; ``configuration`` is the text of wp-config.php."""
        if not PACKAGE.is_dir():
            raise RuntimeError("WordPress is not installed; scripts/install-systems brings it")
        shutil.copytree(PACKAGE, self.root, symlinks=False, ignore_dangling_symlinks=True)
        shutil.copytree(HERE / "theme", self.root / "wp-content/themes/harrowmere")
        (self.root / "wp-config.php").write_text(configuration, encoding="utf-8")
        self.server.create(self.database, self.user, self.password)
        done = subprocess.run(
            [program("php"), str(HERE / "install.php"), str(self.root), self.address, fill],
            capture_output=True, text=True, env=self.environment,
        )  # fmt: skip
        # WordPress ends with 0 also where it only says that it cannot reach its database.
        if done.returncode or "Error" in done.stdout:
            raise RuntimeError(done.stdout + done.stderr)

    @property
    def environment(self) -> dict[str, str]:
        return {**os.environ, "HARROWMERE_WORD": self.password, "SITE_BASE": self.base,
                "PHP_CLI_SERVER_WORKERS": "3"}  # fmt: skip

    def serve(self, *options: str) -> None:
        self.process = subprocess.Popen(
            [program("php"), *options, "-S", f"127.0.0.1:{self.port}", "-t", str(self.folder),
             str(HERE / "router.php")],
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env=self.environment,
            start_new_session=True,
        )  # fmt: skip
        wait_for(f"{self.address}/wp-login.php")

    def stop(self) -> None:
        if self.process is not None:
            os.killpg(self.process.pid, 15)
            self.process.wait()

    def unserialise(self) -> dict[str, object]:
        """What PHP itself says of every serialised value in the database."""
        done = subprocess.run(
            [program("php"), str(HERE / "unserialise.php"), self.server.socket, self.user,
             self.password, self.database],
            capture_output=True, text=True, check=True,
        )  # fmt: skip
        return dict(json.loads(done.stdout))


def single_quoted(server: Mariadb, database: str, user: str, password: str, prefix: str) -> str:
    """A wp-config.php in the plainest style, with a password that needs escaping."""
    escaped = password.replace("\\", "\\\\").replace("'", "\\'")
    return f"""<?php
/** define( 'DB_NAME', 'a_comment' ); */
define( 'DB_NAME', '{database}' ); # define('DB_USER', 'not this');
define( 'DB_USER', '{user}' );
define( 'DB_PASSWORD', '{escaped}' );
define( 'DB_HOST', 'localhost:{server.socket}' );
define( 'DB_CHARSET', 'utf8mb4' );
define( 'DISABLE_WP_CRON', true );
define( 'WP_HTTP_BLOCK_EXTERNAL', true );
define( 'AUTOMATIC_UPDATER_DISABLED', true );
$table_prefix = '{prefix}';
if ( ! defined( 'ABSPATH' ) ) {{ define( 'ABSPATH', __DIR__ . '/' ); }}
require_once ABSPATH . 'wp-settings.php';
"""


def from_environment(server: Mariadb, database: str, user: str, prefix: str) -> str:
    """A wp-config.php in another style: double quotes, CRLF, a password from the environment."""
    text = f"""<?php
$parts = array( "{database}", "{user}" );
$db = "{database}";
define("DB_NAME", "$db"); // the copy
const DB_USER = "{user}";
define("DB_PASSWORD", getenv("HARROWMERE_WORD"));
define("DB_HOST", "127.0.0.1" . ":" . {server.port});
define("DB_CHARSET", "utf8mb4");
define("DISABLE_WP_CRON", true);
define("WP_HTTP_BLOCK_EXTERNAL", true);
define("AUTOMATIC_UPDATER_DISABLED", true);
$table_prefix = "{prefix}";
if (!defined("ABSPATH")) define("ABSPATH", dirname(__FILE__) . "/");
require_once(ABSPATH . "wp-settings.php");
"""
    return text.replace("\n", "\r\n")
