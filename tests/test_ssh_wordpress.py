"""Real WordPress on real servers, two of three behind SSH: pulled, pushed, promoted and undone."""

from __future__ import annotations

from pathlib import Path

from ssh_server import SshServer
from systems import Mariadb
from test_push_wordpress import Railway, write_plugin


def test_pulled_down_pushed_up_and_undone_over_ssh(
    tmp_path: Path, database_server: Mariadb, ssh: SshServer
) -> None:
    railway = Railway(tmp_path, database_server, "far", ssh)
    try:
        # Staging was made out of nothing, from one remote environment to another; local from there.
        assert railway.edition("staging") == "111"
        assert railway.document("check", "staging")["findings"] == []
        railway.sites["local"].serve("-d", "opcache.revalidate_freq=0")
        assert railway.edition("local") == "111"
        assert railway.document("check", "local")["findings"] == []
        write_plugin(railway.root("local"), 2)
        before = railway.live()
        first = railway.document("push", "staging", "--yes")
        assert railway.edition("staging") == "222"
        second = railway.document("push", "production", "--confirm=production")
        assert second["plan"]["build"]["fingerprint"] == first["plan"]["build"]["fingerprint"]
        assert railway.edition("production") == "222"
        assert railway.live() == before
        railway.vetrin("undo", "production", "--confirm=production")
        assert railway.edition("production") == "111"
        assert railway.live() == before
        # The media of an environment that changed come down as what differs.
        (railway.root("production") / "wp-content/uploads/new.png").write_bytes(b"a new picture")
        done = railway.document("pull", "--parts", "media", "--yes")
        assert done["files"] == 1
        assert not (railway.root("production") / ".vetrin/lock").exists()
        # The second time only what differs comes, and it is named before.
        railway.document("pull", "--parts", "data", "--yes")
        assert railway.document("changes", "production")["same"]
        site = railway.sites["production"]
        titled = "UPDATE wp_posts SET post_title = 'Steam in May' WHERE ID = 1"
        site.server.run(titled, database=site.database)
        found = railway.document("changes", "production", code=4)
        assert [(item["title"], item["state"]) for item in found["entries"]] == [
            ("Steam in May", "changed")
        ]
        done = railway.document("pull", "--parts", "data", "--yes")
        assert done["since_run"] and done["written_rows"].pop("wp_posts") == 1
        assert not any(done["written_rows"].values())
    finally:
        railway.stop()
