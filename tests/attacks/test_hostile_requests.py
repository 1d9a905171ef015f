"""A relay against those who have no business with it: on the way, in front of it, and with its file in their hands."""

from __future__ import annotations

import json
import os
import random
import shutil
import struct
import subprocess
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pymysql
import pytest

from systems import Mariadb, free_port, program, wait_for
from test_files import state
from vetrin.database.mysql.accounts import Credentials
from vetrin.database.mysql.database import MysqlDatabase
from vetrin.errors import DatabaseError, FilesError
from vetrin.files import FileChange, Writing
from vetrin.remote.helper_protocol import BEGIN, BYTES, DATA, END, JSON, SPAN, frame, record
from vetrin.remote.relay.exchange import Exchange
from vetrin.remote.relay.host import open_exchange
from vetrin.remote.relay.sealing import NO_SESSION, OPENSSL, SODIUM, RelayKey, Unopened
from web_host import Relayed, WebHost, lay_relay

SECRET = "the timetable of the ghost train"


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Iterator[WebHost]:
    """A site with something beside it that nobody may see."""
    folder = tmp_path_factory.mktemp("guarded")
    (folder / "beside").mkdir()
    (folder / "beside/secret.txt").write_text(SECRET)
    root = folder / "site"
    (root / "media").mkdir(parents=True)
    (root / "index.php").write_text("<?php echo 'the site';")
    (root / "media/a.txt").write_text("a")
    (root / "out").symlink_to(folder / "beside")
    (root / "media/way.txt").symlink_to(folder / "beside/secret.txt")
    (root / "chain").symlink_to("out/secret.txt")
    with WebHost(root) as web:
        yield web


@pytest.fixture
def relay(place: WebHost) -> Iterator[Relayed]:
    found = lay_relay(place)
    yield found
    found.file.unlink(missing_ok=True)
    shutil.rmtree(place.root / ".vetrin", ignore_errors=True)


@pytest.fixture
def reader(place: WebHost) -> Iterator[Relayed]:
    found = lay_relay(place, writes=False)
    yield found
    found.file.unlink(missing_ok=True)


class Heard:
    """What somebody on the way hears: each request as it was sent, and its answer."""

    def __init__(self, exchange: Exchange) -> None:
        self.requests: list[bytes] = []
        self.answers: list[bytes] = []
        client = exchange.place.client
        send = client.post

        def post(url: str, *, content: bytes, **more: Any) -> httpx.Response:
            self.requests.append(content)
            answer = send(url, content=content, **more)
            self.answers.append(answer.content)
            return answer

        client.post = post  # type: ignore[method-assign, assignment]


def asked(do: str, *records: bytes, **values: Any) -> bytes:
    body = frame(JSON, json.dumps({"do": do, **values}).encode())
    return body + (frame(DATA, b"".join(records)) if records else b"") + frame(END)


def begun(relay: Relayed) -> Exchange:
    exchange = open_exchange(relay.host(), relay.key)
    exchange.hello()
    return exchange


def of_site(relay: Relayed) -> dict[str, object]:
    """The site's files, without what is the relay's own."""
    found = state(relay.web.root)
    return {path: what for path, what in found.items() if "vetrin" not in path}


def no_page(answer: httpx.Response) -> None:
    assert answer.status_code == 404 and b"Not found" in answer.content
    assert len(answer.content) < 100 and "x-powered-by" not in answer.headers


def test_without_the_key_there_is_no_page(relay: Relayed) -> None:
    before = of_site(relay)
    for method in ("GET", "HEAD", "PUT", "DELETE", "OPTIONS", "PATCH"):
        answer = httpx.request(method, relay.url)
        assert answer.status_code == 404, method
    no_page(httpx.post(relay.url))
    no_page(httpx.post(relay.url, data={"do": "hello"}))
    no_page(httpx.post(relay.url, files={"file": b"x" * 1000}))
    no_page(httpx.get(relay.url, params={"do": "hello"}))
    chance = random.Random("guesses")
    with httpx.Client() as client:
        for number in range(1000):
            guess = bytearray(chance.randbytes(chance.choice([0, 1, 33, 128, 129, 145, 200, 5000])))
            if number % 2 and len(guess) > 33:  # as far as anybody can know it
                guess[:9] = bytes([1 + number % 4 // 2]) + relay.key.id
            no_page(client.post(relay.url, content=bytes(guess)))
    # Nobody was locked out by that, and nothing was written.
    assert begun(relay).ask(asked("look", paths=[])) and of_site(relay) == before


@pytest.mark.parametrize("suite", [SODIUM, OPENSSL])
def test_what_was_altered_cut_or_put_together_is_nothing(relay: Relayed, suite: int) -> None:
    exchange = open_exchange(relay.host(), relay.key)
    exchange.suite, exchange._met = suite, True
    exchange.hello()
    heard = Heard(exchange)
    exchange.ask(asked("look", paths=[str(relay.web.root)]))
    exchange.ask(
        asked("act", acts=[["remove", f"{relay.web.root}/gone", "", 0, True]], root=""), writes=True
    )
    one, two = heard.requests[:2]
    chance = random.Random("altered")
    with httpx.Client() as client:
        for text in (one, two):
            places = [*range(33), *chance.sample(range(33, len(text)), 60), len(text) - 1]
            for at in places:
                altered = bytearray(text)
                altered[at] ^= 1 << chance.randrange(8)
                no_page(client.post(relay.url, content=bytes(altered)))
            for end in (0, 1, 32, 33, 65, 128, 129, len(text) // 2, len(text) - 1):
                no_page(client.post(relay.url, content=text[:end]))
            no_page(client.post(relay.url, content=text + b"\0"))
        head = 33
        no_page(client.post(relay.url, content=one[:head] + two[head:]))
        no_page(client.post(relay.url, content=one[:200] + two[200:]))


def test_nothing_is_done_twice_nor_out_of_its_session(relay: Relayed) -> None:
    root = relay.web.root
    exchange = begun(relay)
    heard = Heard(exchange)
    (root / "once").write_text("1")
    rename = [["rename", f"{root}/once", f"{root}/twice", 0, False]]
    exchange.ask(asked("act", acts=rename, root=""), writes=True)
    exchange.ask(asked("look", paths=[]))
    (root / "once").write_text("2")
    (root / "twice").unlink()
    for text in heard.requests * 3:
        no_page(httpx.post(relay.url, content=text))
    assert (root / "once").read_text() == "2" and not (root / "twice").exists()
    # A session that has ended, and one that is begun by a hello that was recorded.
    fresh = open_exchange(relay.host(), relay.key)
    other = Heard(fresh)
    fresh.hello()
    fresh.bye()
    no_page(httpx.post(relay.url, content=other.requests[0]))
    for text in heard.requests:
        answer = httpx.post(relay.url, content=text)
        assert answer.status_code == 404 or SECRET.encode() not in answer.content
    assert (root / "once").read_text() == "2"
    (root / "once").unlink()


def test_late_requests_come_through_once_and_very_late_ones_never(relay: Relayed) -> None:
    """Requests under way at a time overtake one another; that is no replay."""
    exchange = begun(relay)
    body = asked("look", paths=[])
    text = json.dumps({"seconds": 2, "most": 1 << 20}).encode()

    def sent(counter: int) -> int:
        sealed = exchange.key.seal(
            SODIUM, exchange._session, counter, struct.pack(">I", len(text)) + text + body
        )
        return httpx.post(relay.url, content=sealed.text).status_code

    order = list(range(100, 140))
    random.Random("order").shuffle(order)
    assert {sent(counter) for counter in order} == {200}
    assert {sent(counter) for counter in order} == {404}
    assert sent(1000) == 200 and sent(1000 - 61) == 200
    assert sent(1000 - 62) == 404 and sent(1000 - 61) == 404 and sent(1) == 404


def test_an_old_hello_begins_nothing(relay: Relayed) -> None:
    body = asked("hello")
    head = {"hello": True, "time": 1_700_000_000, "seconds": 2, "most": 1 << 20}
    text = json.dumps(head).encode()
    sealed = relay.key.seal(SODIUM, NO_SESSION, 1, struct.pack(">I", len(text)) + text + body)
    answer = httpx.post(relay.url, content=sealed.text)
    # Its owner learns what the clock says there; to anybody else it is noise.
    assert json.loads(sealed.open(answer.content)[1:])["why"] == "stale"
    assert b"stale" not in answer.content


def test_another_key_opens_nothing(relay: Relayed, reader: Relayed) -> None:
    exchange = begun(relay)
    heard = Heard(exchange)
    exchange.ask(asked("look", paths=[str(relay.web.root)]))
    for key in (RelayKey.new(), reader.key):
        sealed = key.seal(SODIUM, NO_SESSION, 1, b"\0\0\0\2{}")
        no_page(httpx.post(relay.url, content=sealed.text))
        with pytest.raises(Unopened):
            sealed.open(heard.answers[0])
        forged = bytearray(sealed.text)
        forged[1:9] = relay.key.id
        no_page(httpx.post(relay.url, content=bytes(forged)))


OUTSIDE = [
    "/etc/passwd", "{root}/../beside/secret.txt", "{root}/media/../../beside/secret.txt", "{root}/./media/a.txt",
    "{root}//media/a.txt", "{root}/out/secret.txt", "{root}/media/way.txt", "{root}/chain", "{root}%2F..%2Fbeside",
    "{root}/media/a.txt\0.png", "{root}x", "{root}/..", "", ".", "..", "/", "~", "media/a.txt",
    "php://filter/read=string.rot13/resource={root}/media/a.txt", "data:text/plain,x", "file://{root}/media/a.txt",
    "{root}/out", "{root}/out/new/deep/x", "{relay}", "{state}", "{state}/hellos", "glob://{root}/*", "phar://{root}/x",
]  # fmt: skip


def test_no_path_leads_out_of_the_site(relay: Relayed) -> None:
    root = relay.web.root
    host = relay.connect()
    machine: Any = host.machine
    (folder,) = (root / ".vetrin").glob("relay-*/hellos")
    beside = state(root.parent / "beside")
    before = of_site(relay)
    relays_own = relay.file.read_bytes()
    for text in OUTSIDE:
        path = text.format(root=root, relay=relay.file, state=folder.parent)
        link = path in (
            f"{root}/out",
            f"{root}/chain",
            f"{root}/media/way.txt",
        )  # itself it is the site's
        assert machine.look([path], follow=True) == [None], path
        if not link:
            assert machine.look([path]) == [None], path
        for work in [
            lambda path=path: list(machine.read(path)),
            lambda path=path: machine.names(path),
            lambda path=path: list(machine.scan([path], (), ())),
            lambda path=path: machine.digests([path], "sha256"),
            lambda path=path: machine.write_many([(Writing(path, 0o644, 0), [b"x"])]),
            lambda path=path: machine.write_many(
                [(Writing(f"{root}/new", 0o644, 0, path or "/"), [b"x"])]
            ),
            lambda path=path: machine.act(
                [FileChange("replace", f"{root}/media/a.txt", f"{path}/x")]
            ),
            lambda path=path: machine.act([FileChange("mode", f"{path}/x", mode=0o777)]),
        ]:
            with pytest.raises(FilesError):
                work()
    (root / "new").unlink(missing_ok=True)
    assert state(root.parent / "beside") == beside and of_site(relay) == before
    assert relay.file.read_bytes() == relays_own
    # What is listed tells nothing of them either.
    listed = {path for path, _ in machine.scan([str(root)], (), ())}
    assert str(relay.file) not in listed and not any(str(folder.parent) in path for path in listed)


def test_links_made_through_it_open_nothing(relay: Relayed) -> None:
    root, machine = relay.web.root, relay.connect().machine
    machine.act([FileChange("link", f"{root}/made", str(root.parent / "beside"))])
    try:
        with pytest.raises(FilesError):
            list(machine.read(f"{root}/made/secret.txt"))
        with pytest.raises(FilesError):
            machine.write_many([(Writing(f"{root}/made/x", 0o644, 0), [b"x"])])
        assert not (root.parent / "beside/x").exists()
    finally:
        (root / "made").unlink()


def test_one_that_reads_writes_nothing(reader: Relayed, mariadb_server: Mariadb) -> None:
    root = reader.web.root
    before = state(root)
    host = reader.connect()
    machine: Any = host.machine
    assert b"".join(machine.read(f"{root}/media/a.txt")) == b"a"
    for work in (
        lambda: machine.write_many([(Writing(f"{root}/new", 0o644, 0), [b"x"])]),
        lambda: machine.act([FileChange("remove", f"{root}/media/a.txt")]),
        lambda: machine.act([FileChange("folder", f"{root}/new")]),
        lambda: machine.remove(f"{root}/media"),
    ):
        with pytest.raises(FilesError, match="reading only"):
            work()
    assert state(root) == before
    mariadb_server.run("DROP DATABASE IF EXISTS guarded")
    mariadb_server.create("guarded", "guard", "word")
    run = lambda *statements: mariadb_server.run(*statements, database="guarded")  # noqa: E731
    run(
        "CREATE TABLE fares (id INT PRIMARY KEY, note TEXT)",
        "INSERT INTO fares VALUES (1, 'into the tunnel -- # /* ; ')",
        "CREATE FUNCTION spoil() RETURNS INT BEGIN UPDATE fares SET note = 'spoilt'; RETURN 1; END",
        "GRANT FILE ON *.* TO 'guard'@'%'",
    )
    credentials = Credentials("guarded", "guard", "word", "127.0.0.1", mariadb_server.port)
    database = MysqlDatabase(credentials, dial=host.dial)
    assert database.ask("SELECT 'a\\' INTO OUTFILE \\'x'") == [
        ("a' INTO OUTFILE 'x",)
    ]  # a text, as the server reads it
    assert database.ask("SELECT note FROM fares WHERE note = 'into the tunnel -- # /* ; '")
    to = reader.web.folder / "dumped"
    for sql in (
        "UPDATE fares SET note = ''", "INSERT INTO fares VALUES (2, '')", "DROP TABLE fares", "CREATE TABLE x (a INT)",
        "SELECT spoil()", "(SELECT spoil())", f"SELECT 1 INTO OUTFILE '{to}'", f"SELECT note INTO DUMPFILE '{to}' FROM fares",
        "SELECT 1; DROP TABLE fares", "SELECT 1 /*! INTO @a */", "SET GLOBAL max_connections = 5", "SET PASSWORD = PASSWORD('x')",
        "SET @a = (SELECT spoil())", "SELECT LOAD_FILE('/etc/passwd')", "CALL spoil()", "LOCK TABLES fares WRITE",
        "SELECT * FROM fares FOR UPDATE", "DO spoil()", "EXPLAIN UPDATE fares SET note = ''", "WITH x AS (SELECT 1) SELECT spoil()",
        "DELETE FROM fares", "RENAME TABLE fares TO gone", "HANDLER fares OPEN", "FLUSH TABLES", "KILL 1", "PREPARE x FROM 'DO 1'",
        "SET sql_mode = 'NO_BACKSLASH_ESCAPES'", "SET NAMES gbk", "SET character_set_client = sjis", "SET ROLE x",
        "SELECT `a``b` -- \n INTO @a", "LOAD DATA LOCAL INFILE 'x' INTO TABLE fares",
    ):  # fmt: skip
        one = MysqlDatabase(credentials, dial=host.dial)
        with pytest.raises((DatabaseError, pymysql.Error)):
            one.ask(sql)
            assert sql.startswith("SET "), sql  # which goes with the next one
            one.ask("SELECT 1")
        one.close()
    assert run("SELECT * FROM fares") == [(1, "into the tunnel -- # /* ; ")] and not to.exists()
    database.close()


def test_what_is_huge_nested_or_lies_of_its_length(relay: Relayed) -> None:
    before = of_site(relay)
    no_page(httpx.post(relay.url, content=os.urandom(7_000_000)))
    assert httpx.post(relay.url, content=os.urandom(20_000_000)).status_code in (404, 413)
    exchange = begun(relay)
    deep = "[" * 500 + "]" * 500
    bodies = [
        frame(JSON, b'{"do": "look", "paths": ' + deep.encode() + b"}") + frame(END),
        frame(JSON, b"\xff\xfe") + frame(END),
        frame(JSON, b"null") + frame(END),
        frame(JSON, b'{"do": ["look"]}') + frame(END),
        frame(JSON, b'{"do": "system", "command": "id"}') + frame(END),
        frame(JSON, b'{"do": "look"}') + frame(END),
        b"\xff\xff\xff\xff\1",
        b"",
        frame(JSON, b'{"do": "write"}') + frame(DATA, record(BYTES, b"x")) + frame(END),
        frame(JSON, b'{"do": "write"}') + frame(DATA, record(BEGIN, b"[]") + record(SPAN, b"x")) + frame(END),
        frame(JSON, b'{"do": "write"}') + b"\x7f\xff\xff\xff\2xx",
        frame(JSON, b'{"do": "read", "items": [["' + str(relay.web.root).encode() + b'/media/a.txt", -5, -9]]}') + frame(END),
        frame(JSON, b'{"do": "part", "of": "../../x", "number": "../../y"}') + frame(END),
        frame(JSON, b'{"do": "mysql", "connect": {"name": "127.0.0.1", "port": 1, "socket": ""}}') + frame(END),
    ]  # fmt: skip
    for body in bodies:
        head = json.dumps({"seconds": 2, "most": 1 << 20}).encode()
        with exchange._lock:
            exchange._counter += 1
        text = struct.pack(">I", len(head)) + head + body
        sealed = exchange.key.seal(SODIUM, exchange._session, exchange._counter, text)
        answer = httpx.post(relay.url, content=sealed.text)
        assert answer.status_code in (200, 404), body
        assert b"Warning" not in answer.content and b"/site" not in answer.content
    assert of_site(relay) == before
    assert exchange.ask(asked("look", paths=[])) is not None


def test_its_text_makes_no_request_and_opens_no_answer(relay: Relayed) -> None:
    exchange = begun(relay)
    heard = Heard(exchange)
    exchange.ask(asked("look", paths=[str(relay.web.root)]))
    port = free_port()
    with WebHost(relay.web.root, runs=False) as plain:  # PHP is off
        wait_for(f"http://127.0.0.1:{plain.port}/")
        text = httpx.get(f"{plain.address}/{relay.file.name}").text
    del port
    assert (
        relay.key.text not in text
        and "password" not in text.partition("*/")[2].partition("class")[0]
    )
    for part in (b"signing", b"signing P-256"):
        secret = relay.key._part(part)
        assert secret.hex() not in text and str(secret) not in text
    # With all that stands in it, PHP itself can neither sign, nor open what was answered before.
    tried = subprocess.run(
        [program("php"), "-r", _READER, str(relay.file), heard.requests[0].hex(), heard.answers[0].hex()],
        capture_output=True, text=True, check=True,
    )  # fmt: skip
    found = json.loads(tried.stdout)
    assert found["request"] is True and found["answer"] is False and found["signed"] is False


# What a reader of the file can do: open a recorded request with the relay's secret, as the docs say; no more.
_READER = """
$text = file_get_contents($argv[1]);
preg_match_all("/const (V_\\\\w+) = '([^']*)'/", $text, $m);
$c = array_combine($m[1], $m[2]);
$secret = base64_decode($c['V_SECRET']);
$request = hex2bin($argv[2]);
$answer = hex2bin($argv[3]);
$hkdf = function ($s, $i) use ($c) { return hash_hkdf('sha256', $s, 32, $i, hex2bin($c['V_ID'])); };
$open = function ($t, $b, $k) {
    return sodium_crypto_aead_chacha20poly1305_ietf_decrypt($t, $b, str_repeat("\\0", 12), $k);
};
$head = substr($request, 0, 33);
$key = substr($request, 33, 32);
$shared = sodium_crypto_scalarmult($secret, $key);
$plain = $open(substr($request, 129), $head, $hkdf($shared, "vetrin relay request\\0" . $key));
$public = substr($answer, 0, 32);
$tries = [$shared, $shared . $shared, sodium_crypto_scalarmult($secret, $public) . $shared];
$opened = false;
foreach ($tries as $one) {
    $info = "vetrin relay answer\\0" . $public . $key;
    $opened = $opened || $open(substr($answer, 32), $head, $hkdf($one, $info)) !== false;
}
$pair = sodium_crypto_sign_seed_keypair($secret);
$signed = sodium_crypto_sign_publickey($pair) === base64_decode($c['V_SIGNER']);
echo json_encode(['request' => $plain !== false, 'answer' => $opened, 'signed' => $signed]);
"""


def test_only_those_addresses_that_it_answers_to(place: WebHost) -> None:
    for only, good in (
        (("127.0.0.0/8",), True), (("127.0.0.1/32",), True), (("10.0.0.0/8", "127.0.0.1/32"), True),
        (("127.0.0.2/31",), False), (("203.0.113.0/24", "::1/128"), False),
    ):  # fmt: skip
        found = lay_relay(place, only=only)
        try:
            if good:
                assert begun(found)
            else:
                text = found.key.seal(SODIUM, NO_SESSION, 1, b"\0\0\0\2{}").text
                no_page(httpx.post(found.url, content=text))
        finally:
            found.file.unlink()


def test_it_says_nothing_that_tells_the_site_from_others(relay: Relayed, tmp_path: Path) -> None:
    """Not even where PHP shows its errors."""
    del tmp_path
    with WebHost(
        relay.web.root,
        settings={"display_errors": "1", "html_errors": "1", "output_buffering": "0"},
    ) as web:
        answer = httpx.post(f"{web.address}/{relay.file.name}", content=b"\1" * 500)
        no_page(answer)
        assert str(relay.web.root).encode() not in answer.content
