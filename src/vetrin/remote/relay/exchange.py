"""Requests to one relay over HTTP, each answered as a whole or asked again.

What does not open is no answer, whatever status it came with: a page of a firewall, an error of the server, an answer
that was cut. It is asked again, after a pause, with a number of its own; what writes has a name that stays, by which
the relay does it once and tells again what came of it. What a host does not take (bodies that are too large, requests
that take too long) is learnt from what it says to them, and asked for in smaller pieces from then on.
"""

from __future__ import annotations

import contextlib
import json
import secrets
import struct
import threading
import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import httpx

from ...config import web_refusal
from ...errors import ConnectionFailed, ConnectionLost
from ..helper_protocol import DATA, END, JSON, ExchangeError, Frames, frame
from ..pace import Pace
from .sealing import NO_SESSION, OPENSSL, SODIUM, RelayKey, Unopened

FIRST_PIECE = (
    1 << 19
)  # bytes of a request's body, to begin with; what servers take by default is a megabyte
_LARGEST_PIECE, _SMALLEST_PIECE = 3 << 19, 1 << 14
ANSWER = 2 << 20  # bytes of an answer after which the relay comes to an end
SECONDS = 2.0  # that the relay works on one request; others wait meanwhile where it has one worker
_LEAST_SECONDS, _LEAST_ANSWER = 0.25, 1 << 16
_GOOD = 4  # answers, after which more is asked for again
_SILENCE = 75.0  # seconds for which a server may say nothing
PAUSES = (0.05, 0.2, 0.5, 1.0, 2.0, 4.0, 8.0)  # seconds before the same is asked again
_TOO_LARGE = 413
AGENT = "Mozilla/5.0 (compatible; Vetrin)"
# Refusals after which the same is asked again, by what the relay calls them.
_WHY = {
    "busy": "it is still at work on what was asked of it before",
    "stale": "its clock does not go on evenly",
    "session": "it does not remember sessions",
}
_LENGTH = struct.Struct(">I")
_KEPT = 200  # names of what was done, told to the relay so that it forgets them

FIRST_REMEDY = "see that the relay's file is there, and that its address in vetrin.toml is right"


class NoRelay(Exception):
    """Nothing there opens what is sent to it, by this suite."""


@dataclass
class Limits:
    """What is asked of the relay at a time, as far as it was learnt: bytes of a request and of an answer, seconds."""

    piece: int = FIRST_PIECE
    answer: int = ANSWER
    seconds: float = SECONDS
    grows: bool = True
    good: int = 0  # answers since one failed

    def less_at_once(self) -> None:
        """An answer did not come: it may have been too much for the time or the memory that there is."""
        self.good = 0
        self.seconds = max(_LEAST_SECONDS, self.seconds / 2)
        self.answer = max(_LEAST_ANSWER, self.answer // 2)

    def smaller(self, sent: int) -> None:
        """A request of so many bytes was too large."""
        self.grows = False
        self.piece = max(_SMALLEST_PIECE, min(self.piece, sent) // 2)

    def arrived(self, sent: int) -> None:
        """A request of so many bytes was answered."""
        if self.grows and sent >= self.piece // 2:
            self.piece = min(_LARGEST_PIECE, self.piece * 2)
        self.good += 1
        if self.good >= _GOOD and self.answer < ANSWER:
            self.good = 0
            self.seconds = min(SECONDS, self.seconds * 2)
            self.answer = min(ANSWER, self.answer * 2)


@dataclass(frozen=True)
class Place:
    """Where a relay is, and how its web server is talked to. ``name`` is how messages call it, ``user`` what that
    server is told, empty for nothing, and ``environment`` whose it is."""

    url: str
    name: str
    client: httpx.Client = field(repr=False)
    environment: str = ""
    user: str = ""


class Exchange:
    """One relay; threads may share it.

    Raises:
        ConnectionFailed: from everything, where it cannot be reached, or refuses; ConnectionLost once it was reached.
    """

    def __init__(self, place: Place, key: RelayKey, *, rate: int | None = None) -> None:
        self.place = place
        self.key = key
        self.pace = Pace(rate)
        self.limits = Limits()
        self.latency = 0.0
        self.rate = 0.0
        self.suite = SODIUM
        self.alive = True
        self._session = NO_SESSION
        self._remembers = True
        self._counter = 0
        self._clock = 0.0  # seconds by which the host's is ahead
        self._done: list[str] = []
        self._lock = threading.RLock()
        self._met = False

    @property
    def slow(self) -> bool:
        """True where it is worth while to compress."""
        return self.pace.is_slow(self.rate)

    def hello(self) -> dict[str, Any]:
        """Begin a session; what the relay says of itself and its host."""
        for suite in (self.suite,) if self._met else (SODIUM, OPENSSL):
            self.suite = suite
            try:
                return self._hello()
            except NoRelay as error:
                last = error
        raise ConnectionFailed(
            f"{self.place.name}: no relay answers at {self.place.url} ({last})",
            f"{FIRST_REMEDY}; one that was made with another key looks as if it were not there, and so does one "
            "where PHP has neither libsodium nor OpenSSL",
        )

    def _hello(self) -> dict[str, Any]:
        ask = frame(JSON, json.dumps({"do": "hello"}).encode()) + frame(END)
        with self._lock:
            answer = self._answered(ask, {"hello": True}, NO_SESSION)
            said = Frames(_Said(answer[33:])).said()
            self._session, self._counter = bytes.fromhex(answer[1:33].decode("ascii")), 0
            self._remembers = bool(said["remembers"])
            self._met = True
        return said

    def measure(self, size: int) -> None:
        """Find out how far away the relay is, and how fast the line, by an answer without and one with some bytes."""
        took = {}
        for probe in (0, size):
            begun = time.perf_counter()
            answer = self.ask(
                frame(JSON, json.dumps({"do": "hello", "probe": probe}).encode()) + frame(END)
            )
            took[probe] = time.perf_counter() - begun
        self.latency = took[0]
        # On a fast line most of it is the relay's own work.
        self.rate = len(answer) / max(took[size] - self.latency, took[size] / 4)

    def ask(self, body: bytes, *, writes: bool = False) -> memoryview:
        """The frames of the answer to the frames of a request. ``writes``: it is done once, however often it has to
        be asked."""
        limits = self.limits
        op = secrets.token_hex(16) if writes or len(body) > limits.piece else ""
        head: dict[str, Any] = {"op": op}
        with self._lock:
            if self._session == NO_SESSION and self._remembers:
                self.hello()
        while True:
            rest, parts = body, 0
            while len(rest) > limits.piece:
                size = limits.piece
                if not self._part(op, parts, rest[:size]):
                    continue
                rest = rest[size:]
                parts += 1
            try:
                answer = self._answered(rest, {**head, "parts": parts}, self._session)
            except _Again:
                continue
            if op:
                with self._lock:
                    self._done.append(op)
            return memoryview(answer)[33:]

    def _part(self, op: str, number: int, content: bytes) -> bool:
        """Lay a piece of a request ready; False where it has to be smaller."""
        asked = json.dumps({"do": "part", "of": op, "number": number}).encode()
        body = (
            frame(JSON, asked)
            + frame(DATA, b"\2" + _LENGTH.pack(len(content)) + content)
            + frame(END)
        )
        size = self.limits.piece
        try:
            self._answered(body, {}, self._session)
        except _Again:
            if self.limits.piece == size:
                raise
            return False
        return True

    def _answered(self, body: bytes, head: Mapping[str, Any], session: bytes) -> bytes:
        """The answer to one request, opened; sent again as long as that makes sense.

        Raises:
            _Again: it has to be asked in another way, as was learnt.
        """
        pauses = iter(PAUSES)
        why = ""
        while True:
            said = self._sent(body, head, session)
            if isinstance(said, bytes):
                if said[:1] == b"\0":
                    return said
                refused = json.loads(said[1:])
                session = self._refused(refused, head, session)
                why = _WHY[refused["why"]]
            else:
                why = said
            if not self._met and not why.startswith("no answer"):
                raise NoRelay(why)
            pause = next(pauses, None)
            if pause is None:
                kind = ConnectionLost if self._met else ConnectionFailed
                raise kind(f"{self.place.name}: {why}", _remedy(why))
            time.sleep(pause)

    def _sent(self, body: bytes, head: Mapping[str, Any], session: bytes) -> bytes | str:
        """One POST: the opened answer, or why there is none."""
        limits = self.limits
        with self._lock:
            self._counter += 1
            counter = self._counter
            done = self._done[-_KEPT:]
        now = int(time.time() + self._clock)
        told = {"seconds": limits.seconds, "most": limits.answer, "time": now, "ack": done, **head}
        text = json.dumps(told).encode()
        sealed = self.key.seal(self.suite, session, counter, _LENGTH.pack(len(text)) + text + body)
        self.pace.spend(len(sealed.text))
        try:
            reply = self.place.client.post(
                self.place.url, content=sealed.text, timeout=httpx.Timeout(_SILENCE, connect=15.0)
            )
        except httpx.InvalidURL as error:
            raise ConnectionFailed(
                f"{self.place.url}: {error}", "correct relay in vetrin.toml"
            ) from error
        except httpx.HTTPError as error:
            return f"no answer ({_told(error)})"
        self.pace.spend(len(reply.content))
        if reply.status_code == 200:
            try:
                found = sealed.open(reply.content)
            except Unopened:
                limits.less_at_once()
                return "what answers is no relay, or its answer was cut"
            if head.get("hello") is None:
                limits.arrived(len(sealed.text))
            if found[:1] == b"\0":
                with self._lock:  # only now it is sure that the relay was told of these
                    self._done = [op for op in self._done if op not in done]
            return found
        return self._without(reply, len(sealed.text))

    def _without(self, reply: httpx.Response, sent: int) -> str:
        """Why an answer with another status came, as far as it tells."""
        status = reply.status_code
        if status == _TOO_LARGE and sent > _SMALLEST_PIECE + 4096:
            self.limits.smaller(sent)
            raise _Again
        if reply.is_redirect:
            raise ConnectionFailed(
                f"{self.place.name}: it redirects to {reply.headers.get('location', 'nowhere')}",
                "write that address as relay in vetrin.toml",
            )
        if status == 401:
            says, remedy = web_refusal(self.place.environment, self.place.user)
            raise ConnectionFailed(f"{self.place.name}: the web server {says}", remedy)
        if status >= 500:
            self.limits.less_at_once()
        passing = self._met or status >= 500 or status in (403, 429)
        return f"no answer (status {status})" if passing else f"status {status}"

    def _refused(self, said: Mapping[str, Any], head: Mapping[str, Any], session: bytes) -> bytes:
        """What follows from a refusal: the session to ask in."""
        why = said["why"]
        if why == "busy":
            return session
        if why == "stale":
            self._clock = float(said["now"]) - time.time()
            return session
        if why == "session" and session != NO_SESSION:
            with self._lock:
                if self._session == session:
                    self.hello()
                return self._session
        if why == "forgetful":
            raise ExchangeError(
                "the relay can write nothing there, not even what it has to remember; let PHP write to the "
                "site's folder, or to a folder for temporary files"
            )
        if why == "expired":
            moment = time.strftime("%Y-%m-%d %H:%M", time.gmtime(int(said["until"])))
            raise ConnectionFailed(
                f"{self.place.name}: the relay answered until {moment} UTC",
                "make a new one and upload it: vetrin relay ENV",
            )
        if why == "superseded":
            raise ConnectionFailed(
                f"{self.place.name}: a relay that was made later has taken this one's place",
                "write that one's address as relay in vetrin.toml, and delete this one's file",
            )
        raise ConnectionLost(
            f"{self.place.name}: the relay stopped in the middle of what was asked of it",
            "its web server's error log may say why",
        )

    def leave(self) -> bool:
        """Have the relay delete itself and what it remembers; False where it may not delete its file."""
        if not self._met:
            with contextlib.suppress(ConnectionFailed):
                self.hello()  # by which suite it is to be asked; one that has expired answers this alone
        body = frame(JSON, json.dumps({"do": "leave"}).encode()) + frame(END)
        answer = self._answered(body, {"leave": True}, NO_SESSION)
        self._session = NO_SESSION
        return bool(Frames(_Said(answer[33:])).said()["gone"])

    def bye(self) -> None:
        """End the session; the relay forgets it."""
        if self._session != NO_SESSION and self._met:
            ask = {"do": "bye", "session": self._session.hex()}
            self._sent(frame(JSON, json.dumps(ask).encode()) + frame(END), {}, self._session)
            self._session = NO_SESSION


class _Again(Exception):
    """It has to be asked in smaller pieces."""


class _Said:
    """An answer's frames, as a channel."""

    def __init__(self, content: bytes | memoryview) -> None:
        self._rest = memoryview(content)

    def take_into(self, into: memoryview) -> int:
        count = min(len(into), len(self._rest))
        into[:count] = self._rest[:count]
        self._rest = self._rest[count:]
        return count

    def sendall(self, data: bytes) -> None:
        raise ExchangeError("an answer takes no request")


class RelayChannel:
    """Requests as frames, each sent when its answer is taken: a ``Channel`` of ``helper_protocol``."""

    WRITING = ("write", "act", "remove")

    def __init__(self, exchange: Exchange, *, writes: bool | None = None) -> None:
        self._exchange = exchange
        self._writes = writes
        self._waiting: list[bytes] = []
        self._answer = _Said(b"")

    def sendall(self, data: bytes) -> None:
        self._waiting.append(bytes(data))

    def take_into(self, into: memoryview) -> int:
        if self._waiting:
            body = b"".join(self._waiting)
            self._waiting.clear()
            writes = self._writes
            if writes is None:
                length = _LENGTH.unpack_from(body)[0]
                writes = json.loads(body[5 : 5 + length])["do"] in self.WRITING
            self._answer = _Said(self._exchange.ask(body, writes=writes))
        return self._answer.take_into(into)


def _told(error: httpx.HTTPError) -> str:
    if isinstance(error, httpx.TimeoutException):
        return "nothing came in time"
    text = str(error) or type(error).__name__
    return text.partition("] ")[2] or text


def _remedy(why: str) -> str:
    if "status 403" in why or "status 503" in why:
        return "a firewall in front of the site may take it for an attack: ask the host to let requests to it pass"
    if "status 5" in why or "cut" in why:
        return "the web server's error log may say what PHP lacks: time, or memory"
    return "see that the site itself can be reached"
