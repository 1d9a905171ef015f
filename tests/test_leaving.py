"""What is left out, against a model in plain Python: random sites, random choices, both engines."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from systems import Mariadb
from vetrin.cms import SiteConfiguration, shipped
from vetrin.config import Environment, Leave
from vetrin.database import Database
from vetrin.database.mysql.accounts import Credentials
from vetrin.database.mysql.database import MysqlDatabase
from vetrin.database.sqlite.database import SqliteDatabase
from vetrin.files import LocalTree
from vetrin.jobs.exclusions import work_out
from vetrin.rewrite import Address
from vetrin.site import Site

SCHEMA = [
    "CREATE TABLE wp_options (option_id INTEGER PRIMARY KEY, option_name VARCHAR(64), option_value VARCHAR(64))",
    "CREATE TABLE wp_posts (ID INTEGER PRIMARY KEY, post_type VARCHAR(20), post_status VARCHAR(20), post_parent INTEGER, post_author INTEGER, comment_count INTEGER)",
    "CREATE TABLE wp_postmeta (meta_id INTEGER PRIMARY KEY, post_id INTEGER, meta_key VARCHAR(40), meta_value VARCHAR(20))",
    "CREATE TABLE wp_comments (comment_ID INTEGER PRIMARY KEY, comment_post_ID INTEGER, comment_parent INTEGER, comment_approved VARCHAR(20), user_id INTEGER)",
    "CREATE TABLE wp_commentmeta (meta_id INTEGER PRIMARY KEY, comment_id INTEGER)",
    "CREATE TABLE wp_terms (term_id INTEGER PRIMARY KEY)",
    "CREATE TABLE wp_term_taxonomy (term_taxonomy_id INTEGER PRIMARY KEY, term_id INTEGER, taxonomy VARCHAR(20), parent INTEGER, count INTEGER)",
    "CREATE TABLE wp_term_relationships (object_id INTEGER, term_taxonomy_id INTEGER, PRIMARY KEY (object_id, term_taxonomy_id))",
    "CREATE TABLE wp_users (ID INTEGER PRIMARY KEY, user_login VARCHAR(20))",
    "CREATE TABLE wp_usermeta (umeta_id INTEGER PRIMARY KEY, user_id INTEGER, meta_key VARCHAR(20), meta_value VARCHAR(20))",
]  # fmt: skip
TABLES = [line.split()[2] for line in SCHEMA]
IDS = st.integers(1, 9)
OR_NONE = st.integers(0, 9)


@dataclass
class Content:
    """posts (type, status, parent), comments (post, parent, state), and what hangs on them."""

    posts: dict[int, tuple[str, str, int]]
    comments: dict[int, tuple[int, int, str]]
    postmeta: list[tuple[int, str, str]]
    commentmeta: list[int]
    links: set[tuple[int, int]]
    users: set[int]
    options: dict[str, str] = field(default_factory=dict)


@st.composite
def contents(draw: st.DrawFn) -> Content:
    posts = draw(
        st.dictionaries(
            IDS,
            st.tuples(
                st.sampled_from(
                    ["post", "page", "event", "revision", "attachment", "nav_menu_item"]
                ),
                st.sampled_from(["publish", "trash", "draft", "auto-draft", "inherit"]),
                OR_NONE,
            ),
            max_size=9,
        )
    )
    comments = draw(
        st.dictionaries(IDS, st.tuples(IDS, OR_NONE, st.sampled_from(["1", "0", "spam", "trash"])))
    )
    keys = st.sampled_from(
        [
            "x",
            "_thumbnail_id",
            "_menu_item_object_id",
            "_menu_item_type",
            "_menu_item_menu_item_parent",
        ]
    )
    values = st.one_of(OR_NONE.map(str), st.sampled_from(["post_type", "custom"]))
    return Content(
        posts, comments,
        draw(st.lists(st.tuples(IDS, keys, values), max_size=14)),
        draw(st.lists(IDS, max_size=6)),
        draw(st.sets(st.tuples(IDS, st.integers(1, 2)), max_size=8)),
        draw(st.sets(IDS, max_size=3)),
        draw(st.dictionaries(
            st.sampled_from(["_transient_a", "_transient_timeout_a", "_site_transient_timeout_b", "_site_transient_b",
                             "_transient", "xtransientxa", "rewrite_rules", "blogname"]),
            st.sampled_from(["5", "9999999999", "text"]))),
    )  # fmt: skip


KINDS = st.sets(
    st.sampled_from(["spam-comments", "trash", "revisions", "auto-drafts", "drafts", "entries:event",
                     "cached-values", "expired-values", "address-rules"]), max_size=5,
)  # fmt: skip


def fill(run: Callable[..., object], content: Content) -> None:
    statements = [f"DELETE FROM {table}" for table in TABLES]
    for key, (kind, status, parent) in content.posts.items():
        count = sum(c[0] == key and c[2] == "1" for c in content.comments.values())
        statements.append(
            f"INSERT INTO wp_posts VALUES ({key}, '{kind}', '{status}', {parent}, 1, {count})"
        )
    for key, (post, parent, state) in content.comments.items():
        statements.append(f"INSERT INTO wp_comments VALUES ({key}, {post}, {parent}, '{state}', 0)")
    for number, (post, name, value) in enumerate(content.postmeta):
        statements.append(f"INSERT INTO wp_postmeta VALUES ({number}, {post}, '{name}', '{value}')")
    for number, comment in enumerate(content.commentmeta):
        statements.append(f"INSERT INTO wp_commentmeta VALUES ({number}, {comment})")
    for number in (1, 2):
        taxonomy = "category" if number == 1 else "link_category"
        count = sum(
            tax == number and content.posts.get(post, ("", "", 0))[1] == "publish"
            for post, tax in content.links
        )
        statements.append(f"INSERT INTO wp_terms VALUES ({number})")
        statements.append(
            f"INSERT INTO wp_term_taxonomy VALUES ({number}, {number}, '{taxonomy}', 0, {count})"
        )
    statements += [
        f"INSERT INTO wp_term_relationships VALUES ({post}, {tax})" for post, tax in content.links
    ]
    statements += [f"INSERT INTO wp_users VALUES ({user}, 'u{user}')" for user in content.users]
    for number, (name, value) in enumerate(content.options.items()):
        statements.append(f"INSERT INTO wp_options VALUES ({number}, '{name}', '{value}')")
    run(*statements)


def gone_posts(content: Content, kinds: set[str]) -> set[int]:
    """Which posts go: those that are named, their revisions, and the menu items that lead to them."""

    def named(kind: str, status: str) -> bool:
        return (
            ("trash" in kinds and status == "trash")
            or ("revisions" in kinds and kind == "revision")
            or ("auto-drafts" in kinds and status == "auto-draft")
            or ("drafts" in kinds and status == "draft")
            or ("entries:event" in kinds and kind == "event")
        )

    gone = {key for key, (kind, status, _) in content.posts.items() if named(kind, status)}

    def typed(key: int) -> bool:
        return any(
            post == key and name == "_menu_item_type" and value == "post_type"
            for post, name, value in content.postmeta
        )

    # Each way of hanging on a post is followed once, so two rounds are all there is.
    by_menu = lambda owners: {  # noqa: E731
        key for key, (kind, _, _) in content.posts.items()
        if kind == "nav_menu_item" and typed(key) and any(
            post == key and name == "_menu_item_object_id" and value.isdigit() and int(value) in owners
            for post, name, value in content.postmeta)
    }  # fmt: skip
    by_parent = lambda owners: {  # noqa: E731
        key for key, (kind, _, parent) in content.posts.items() if kind == "revision" and parent in owners
    }  # fmt: skip
    menu, parent = by_menu(gone), by_parent(gone)
    return gone | menu | parent | by_menu(gone | parent) | by_parent(gone | menu)


def gone_options(content: Content, kinds: set[str]) -> set[str]:
    gone = set()
    for name, value in content.options.items():
        cached = name.startswith(("_transient_", "_site_transient_"))
        if "cached-values" in kinds and cached:
            gone.add(name)
        if "address-rules" in kinds and name == "rewrite_rules":
            gone.add(name)
        if (
            "expired-values" in kinds
            and "_timeout_" in name
            and (not value.isdigit() or int(value) < 10**9)
        ):
            gone |= {name, name.replace("_timeout_", "_")}
    return gone


def check(site: Site, content: Content, kinds: set[str]) -> None:
    leaving = work_out(site, Leave(rows=tuple(sorted(kinds))))
    found: dict[str, list[list]] = {}
    with site.database.reading() as reader:
        for table in site.tables:
            batches = reader.rows(
                table,
                leave=leaving.leave.get(table.name),
                replacements=leaving.replacements.get(table.name),
            )
            rows = [row for batch in batches for row in batch.each()]
            found[table.name[3:]] = [[_plain(cell) for cell in row] for row in rows]
    gone = gone_posts(content, kinds)
    assert {row[0] for row in found["posts"]} == content.posts.keys() - gone
    spam = {"spam-comments": "spam", "trash": "trash"}
    states = {state for kind, state in spam.items() if kind in kinds}
    left = {
        key for key, (post, _, state) in content.comments.items() if state in states or post in gone
    }
    assert {row[0] for row in found["comments"]} == content.comments.keys() - left
    for key, _, parent, *_ in found["comments"]:
        old = content.comments[key][1]
        assert parent == (0 if old in left else old)
    for key, kind, _, parent, *_ in found["posts"]:
        old = content.posts[key][2]
        assert parent == (0 if old in gone else old), kind
    assert sorted(row[1] for row in found["commentmeta"]) == sorted(
        c for c in content.commentmeta if c not in left
    )
    kept_meta = []
    for number, (post, name, value) in enumerate(content.postmeta):
        points = value.isdigit() and int(value) in gone
        if post in gone or (name == "_thumbnail_id" and points):
            continue
        kept_meta.append(
            [number, post, name, "0" if name == "_menu_item_menu_item_parent" and points else value]
        )
    assert [[r[0], r[1], r[2], str(r[3])] for r in found["postmeta"]] == kept_meta
    kept_links = {(post, tax) for post, tax in content.links if not (post in gone and tax == 1)}
    assert {(row[0], row[1]) for row in found["term_relationships"]} == kept_links
    for row in found["posts"]:
        assert row[5] == sum(
            c[0] == row[0] and c[2] == "1" for k, c in content.comments.items() if k not in left
        )
    for row in found["term_taxonomy"]:
        lost = content.links - kept_links
        published = [
            p
            for p, t in content.links - lost
            if t == row[0] and content.posts.get(p, ("", "", 0))[1] == "publish"
        ]
        assert row[4] == len(published)
    assert {row[1] for row in found["options"]} == content.options.keys() - gone_options(
        content, kinds
    )
    assert len(found["users"]) == len(content.users)


def _plain(cell: object) -> object:
    text = cell.decode() if isinstance(cell, bytes) else cell
    return int(text) if isinstance(text, str) and text.isdigit() else text


def site(folder: Path, database: Database) -> Site:
    return Site(
        Environment("live", Address.parse("https://live.test"), folder),
        shipped()["wordpress"],
        SiteConfiguration(database.engine, "x", prefix="wp_"),
        database,
        LocalTree(folder),
    )


RELAXED = [HealthCheck.function_scoped_fixture, HealthCheck.too_slow]


@settings(max_examples=250, deadline=None, suppress_health_check=RELAXED)
@given(content=contents(), kinds=KINDS)
def test_sqlite_leaves_what_the_model_leaves(
    tmp_path: Path, content: Content, kinds: set[str]
) -> None:
    path = tmp_path / "site.sqlite"
    connection = sqlite3.connect(path, isolation_level=None)
    connection.execute("PRAGMA synchronous = OFF")
    if not connection.execute("SELECT COUNT(*) FROM sqlite_master").fetchone()[0]:
        for statement in SCHEMA:
            connection.execute(statement)
    fill(lambda *all_of_it: [connection.execute(one) for one in all_of_it], content)
    connection.close()
    database = SqliteDatabase(path, read_only=True)
    try:
        check(site(tmp_path, database), content, kinds)
    finally:
        database.close()


@pytest.fixture(scope="module")
def live(database_server: Mariadb) -> MysqlDatabase:
    database_server.run("DROP DATABASE IF EXISTS leaving")
    database_server.create("leaving", "leaver", "leaver-word")
    database_server.run(*SCHEMA, database="leaving")
    return MysqlDatabase(
        Credentials("leaving", "leaver", "leaver-word", "127.0.0.1", database_server.port)
    )


@settings(max_examples=40, deadline=None, suppress_health_check=RELAXED)
@given(content=contents(), kinds=KINDS)
def test_mariadb_leaves_what_the_model_leaves(
    tmp_path: Path, database_server: Mariadb, live: MysqlDatabase, content: Content, kinds: set[str]
) -> None:
    fill(lambda *all_of_it: database_server.run(*all_of_it, database="leaving"), content)
    check(site(tmp_path, live), content, kinds)
