"""The helper in Python's form, for Python 3.6 and later with nothing but its own library.

It is run from memory by ``python3 -c`` and leaves nothing behind. The exchange is described in
``remote/helper_protocol.py``. Nothing of Vetrin can be imported here; the text of ``files/open_folders.py`` is sent in front.
"""

import errno
import fcntl
import hashlib
import json
import os
import re
import select
import shutil
import signal
import socket
import stat
import struct
import sys
import time
import zlib
from collections import OrderedDict
from urllib.parse import quote_from_bytes, unquote_to_bytes

if "Below" not in globals():  # sent along, its text stands in front of this one
    from vetrin.files.open_folders import Below

HEAD = struct.Struct(">IB")
RECORD = struct.Struct(">BI")
JSON, DATA, PACKED, END, ERROR = 1, 2, 3, 4, 5
BEGIN, BYTES, SPAN, DONE, LOST = 1, 2, 3, 4, 5
FRAME = 1 << 18
BLOCK = 1 << 18
PARTS = 64  # in which a scan is told
HELD = 32 << 20  # bytes of them that are held back
SAFE = "".join(chr(c) for c in range(0x20, 0x7F) if chr(c) != "%")
UNREAD = ["unread", 0, 0, 0, "", 0, 0]
KINDS = {stat.S_IFREG: "file", stat.S_IFDIR: "folder", stat.S_IFLNK: "link"}

try:
    import xxhash
except ImportError:
    xxhash = None
try:
    import sqlite3
except ImportError:
    sqlite3 = None


def escaped(path):
    return quote_from_bytes(path, safe=SAFE)


def path_of(text):
    return unquote_to_bytes(text) if "%" in text else text.encode("ascii")


class Stream:
    """Frames over two file descriptors."""

    def __init__(self, source, sink):
        self.source = source
        self.sink = sink
        self.buffer = b""
        self.packing = False
        self.patience = None  # seconds, where it has an end
        self.rest = 0
        self.waiting = []
        self.size = 0

    def exactly(self, size):
        parts, have = [self.buffer], len(self.buffer)
        while have < size:
            if self.patience and not select.select([self.source], [], [], self.patience)[0]:
                raise EOFError
            part = os.read(self.source, max(size - have, 1 << 16))
            if not part:
                raise EOFError
            parts.append(part)
            have += len(part)
        whole = b"".join(parts)
        self.buffer = whole[size:]
        return whole[:size]

    def frame(self):
        length, kind = HEAD.unpack(self.exactly(HEAD.size))
        return kind, self.exactly(length)

    def write(self, kind, content=b""):
        whole = memoryview(HEAD.pack(len(content), kind) + content)
        while whole:
            whole = whole[os.write(self.sink, whole) :]

    def say(self, value):
        self.write(JSON, json.dumps(value).encode("ascii"))

    def data(self, content):
        if self.packing and len(content) > 512:
            if self.rest:
                self.rest -= 1
            else:
                packed = zlib.compress(content, 1)
                if len(packed) < 0.9 * len(content):
                    return self.write(PACKED, packed)
                self.rest = 8
        return self.write(DATA, content)

    def record(self, kind, content=b""):
        if len(content) >= FRAME // 2 and not self.packing:
            # A frame of its own, without copying what is large.
            self.empty()
            head = HEAD.pack(RECORD.size + len(content), DATA) + RECORD.pack(kind, len(content))
            done = os.writev(self.sink, [head, content])
            for rest in (memoryview(head)[done:], memoryview(content)[max(0, done - len(head)):]):
                while rest:
                    rest = rest[os.write(self.sink, rest):]
            return
        self.waiting.append(RECORD.pack(kind, len(content)))
        self.waiting.append(content)
        self.size += len(content) + RECORD.size
        if self.size >= FRAME:
            self.empty()

    def empty(self):
        if self.waiting:
            self.data(b"".join(self.waiting))
            self.waiting, self.size = [], 0

    def records(self):
        rest = b""
        while True:
            kind, content = self.frame()
            if kind == END:
                return
            if kind == PACKED:
                content = zlib.decompress(content)
            content = rest + content if rest else content
            at, end = 0, len(content)
            while at + RECORD.size <= end:
                what, length = RECORD.unpack_from(content, at)
                stop = at + RECORD.size + length
                if stop > end:
                    break
                yield what, content[at + RECORD.size : stop]
                at = stop
            rest = content[at:]

    def drain(self):
        while self.frame()[0] != END:
            pass


def about(path, follow=False):
    try:
        found = os.stat(path) if follow else os.lstat(path)
    except OSError as error:
        if error.errno in (errno.ENOENT, errno.ENOTDIR, errno.ELOOP):
            return None
        raise
    return look(path, found)


def look(path, found):
    kind = KINDS.get(stat.S_IFMT(found.st_mode), "other")
    target = ""
    if kind == "link":
        try:
            target = escaped(os.readlink(path))
        except OSError:
            pass
    return [
        kind,
        found.st_size,
        found.st_mtime_ns,
        stat.S_IMODE(found.st_mode),
        target,
        found.st_dev,
        found.st_ino,
    ]


def since_start():
    """What tells this machine as it runs now from all others."""
    try:
        with open("/proc/sys/kernel/random/boot_id", encoding="ascii") as file:
            return file.read(64).strip()
    except (OSError, ValueError):
        return ""


def hello(stream, ask):
    algorithms = ["sha256"]
    if xxhash is not None and hasattr(xxhash, "xxh3_128"):
        algorithms.insert(0, "xxh128")
    if ask.get("gentle"):
        try:
            os.nice(10)
        except OSError:
            pass
    stream.say(
        {
            "form": "Python " + ".".join(map(str, sys.version_info[:3])),
            "grain": 1,
            "algorithms": algorithms,
            "home": escaped(os.path.expanduser(b"~")),
            "root": os.geteuid() == 0,
            "sqlite": sqlite3.sqlite_version if sqlite3 else "",
            "relay": True,
            "since start": since_start(),
            "parts": True,
            "row digests": True,
            "prints": True,
            "user": os.geteuid(),
            "group": os.getegid(),
        }
    )
    if ask.get("probe"):
        stream.write(DATA, os.urandom(ask["probe"]))


def looks(stream, ask):
    follow = ask.get("follow", False)
    stream.say({"found": [about(path_of(path), follow) for path in ask["paths"]]})


class Whole:
    """Tells all that a scan finds."""

    def __init__(self, stream):
        self.stream = stream
        self.found = []

    def add(self, folder, found):
        self.found += found
        while len(self.found) >= 2000:
            self.stream.data(json.dumps(self.found[:2000]).encode("ascii"))
            del self.found[:2000]

    def end(self):
        if self.found:
            self.stream.data(json.dumps(self.found).encode("ascii"))


class Parts:
    """Tells what a scan finds in parts by the checksum of the folder, without those that are known.

    The digest of a part is the sum of those of its folders, whatever their order. What is more than can well be
    held is told as it comes, and then all is.
    """

    def __init__(self, stream, known):
        self.stream = stream
        self.known = known
        self.sums = {}
        self.held = {}
        self.size = 0

    def add(self, folder, found):
        if not found:
            return
        part = zlib.crc32(folder) % PARTS
        text = json.dumps(sorted(found))
        digest = hashlib.blake2b(text.encode("ascii"), digest_size=16).digest()
        self.sums[part] = (self.sums.get(part, 0) + int.from_bytes(digest, "big")) % (1 << 128)
        self.held.setdefault(part, []).append(text[1:-1])
        self.size += len(text)
        if self.size >= HELD:
            self.tell()
            self.known = {}

    def tell(self):
        for part, texts in sorted(self.held.items()):
            rows, size = [], 0
            for text in texts + [None]:
                if text is not None:
                    rows.append(text)
                    size += len(text)
                if rows and (text is None or size >= FRAME):
                    self.stream.data(("[[%d, [%s]]]" % (part, ", ".join(rows))).encode("ascii"))
                    rows, size = [], 0
        self.held, self.size = {}, 0

    def end(self):
        digests = {str(part): "%032x" % total for part, total in self.sums.items()}
        same = [part for part, digest in digests.items() if self.known.get(part) == digest]
        for part in same:
            self.held.pop(int(part), None)
        self.tell()
        self.stream.say({"parts": digests, "same": list(map(int, same))})


def scan(stream, ask):
    """Everything below some folders; those named in ``shut`` are told, but not looked into. With ``known``, digests
    by part, in parts, of which those that are so still are not told."""
    skip = set(map(path_of, ask["skip"]))
    shut = set(map(path_of, ask["shut"]))
    start = path_of(ask.get("root", ""))
    prune = [re.compile(text).match for text in ask.get("prune", ())]
    told = Whole(stream) if ask.get("known") is None else Parts(stream, ask["known"])
    for root in map(path_of, ask["folders"]):
        waiting = [root]
        while waiting:
            folder = waiting.pop()
            found = []
            try:
                items = list(os.scandir(folder))
            except FileNotFoundError:
                continue
            except PermissionError:
                told.add(os.path.dirname(folder), [[escaped(folder), UNREAD]])
                continue
            for item in items:
                if item.path in skip:
                    continue
                try:
                    seen = item.stat(follow_symlinks=False)
                except FileNotFoundError:
                    continue
                except PermissionError:
                    found.append([escaped(item.path), UNREAD])
                    continue
                if stat.S_ISDIR(seen.st_mode) and item.name not in shut:
                    inside = item.path[len(start):].decode("utf-8", "surrogateescape") + "/"
                    if not any(fit(inside) for fit in prune):
                        waiting.append(item.path)
                found.append([escaped(item.path), look(item.path, seen)])
            told.add(folder, found)
    told.end()


def names(stream, ask):
    """What lies in a folder; with ``paths`` in each of several, nothing of one that cannot be looked into."""
    if "paths" not in ask:
        stream.say({"found": names_in(path_of(ask["path"]))})
        return
    each = []
    for path in ask["paths"]:
        try:
            each.append(names_in(path_of(path)))
        except OSError:
            each.append([])
    stream.say({"each": each})


def names_in(folder):
    found = []
    for item in os.scandir(folder):
        try:
            found.append([escaped(item.path), look(item.path, item.stat(follow_symlinks=False))])
        except FileNotFoundError:
            continue
    return found


def read(stream, ask):
    for path, start, size in ask["items"]:
        left = -1 if size is None else size
        try:
            handle = os.open(path_of(path), os.O_RDONLY)
        except OSError as error:
            stream.record(LOST, told(error, path))
            continue
        try:
            if start:
                os.lseek(handle, start, os.SEEK_SET)
            while left:
                block = os.read(handle, BLOCK if left < 0 else min(BLOCK, left))
                if not block:
                    break
                left -= len(block) if left > 0 else 0
                stream.record(BYTES, block)
                if len(block) < BLOCK:
                    break
            stream.record(DONE)
        except OSError as error:
            stream.record(LOST, told(error, path))
        finally:
            os.close(handle)
    stream.empty()


def write(stream, ask):
    """Files made of bytes and of spans of other files; folders above them come into being."""
    made = set()
    handle = base = None
    path, mode, modified, count = b"", 0, 0, 0
    for what, content in stream.records():
        if what == BEGIN:
            text, mode, modified, of = json.loads(content.decode("ascii"))
            path = path_of(text)
            folder = os.path.dirname(path)
            if folder not in made:
                os.makedirs(folder, exist_ok=True)
                made.add(folder)
            if of:
                base = os.open(path_of(of), os.O_RDONLY | os.O_NOFOLLOW)
            handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        elif what == BYTES:
            while content:
                content = content[os.write(handle, content) :]
        elif what == SPAN:
            start, left = struct.unpack(">QQ", content)
            os.lseek(base, start, os.SEEK_SET)
            while left:
                block = os.read(base, min(BLOCK, left))
                if not block:
                    break
                left -= len(block)
                while block:
                    block = block[os.write(handle, block) :]
        elif what == DONE:
            if mode != 0o600:
                os.fchmod(handle, mode)
            if modified >= 0:
                os.utime(handle, ns=(modified, modified))
            os.close(handle)
            if base is not None:
                os.close(base)
            handle = base = None
            count += 1
    stream.say({"written": count})


def one_act(do, path, other, mode, below):
    if do == "rename":
        below.rename(path, other)
    elif do == "replace":
        os.replace(path, other)
    elif do == "swap":
        if not below.swap(path, other):
            raise OSError(errno.ENOTSUP, "two names cannot change over here", path)
    elif do == "folder":
        below.make(path)
    elif do == "link":
        os.symlink(other, path)
    elif do == "remove":
        os.unlink(path)
    elif do == "remove-folder":
        below.remove_folder(path)
    elif do == "mode":
        below.mode(path, mode)
    elif do == "claim" and other:
        claimed(path, other, mode)
    elif do == "claim":
        os.close(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, mode))


def claimed(path, other, mode):
    """Give what lies at ``other`` a second name, which must not be there; a copy where that cannot be."""
    try:
        os.link(other, path)
    except FileExistsError:
        raise
    except OSError:
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, mode)
        try:
            with open(other, "rb") as file:
                os.write(handle, file.read())
        except OSError:
            os.unlink(path)
            raise
        finally:
            os.close(handle)


def act(stream, ask):
    """Small acts, one after the other; ends at the first that fails, unless it is a soft one."""
    done, below = 0, Below(path_of(ask.get("root", "")))
    for do, one, other, mode, soft in ask["acts"]:
        try:
            one_act(do, path_of(one), path_of(other), mode, below)
        except OSError as error:
            if soft:
                continue
            raise Told(error, one)
        done += 1
    stream.say({"done": done})


def digest(stream, ask):
    new = xxhash.xxh3_128 if ask["algorithm"] == "xxh128" else getattr(hashlib, ask["algorithm"])
    piece, found = ask.get("piece") or 0, []
    for text in ask["paths"]:
        try:
            with open(path_of(text), "rb", buffering=0) as file:
                hasher, list_of = new(), []
                while True:
                    block = file.read(piece or 1 << 20)
                    if not block:
                        break
                    if piece:
                        list_of.append(new(block).hexdigest())
                    else:
                        hasher.update(block)
                found.append(list_of if piece else hasher.hexdigest())
        except OSError:
            found.append(None)
        if len(found) >= 500:
            stream.data(json.dumps(found).encode("ascii"))
            found = []
    stream.data(json.dumps(found).encode("ascii"))


def room(stream, ask):
    path = path_of(ask["path"])
    while not os.path.isdir(path) and path not in (b"/", b""):
        path = os.path.dirname(path)
    stream.say(
        {"disk": str(os.stat(path).st_dev), "free": shutil.disk_usage(os.fsdecode(path)).free}
    )


def flush(stream, ask):
    os.sync()
    stream.say({})


def remove(stream, ask):
    path = path_of(ask["path"])

    def again(function, name, info):
        os.chmod(os.path.dirname(name), 0o700)
        os.chmod(name, 0o700)
        if os.path.isdir(name) and not os.path.islink(name):
            shutil.rmtree(name)
        else:
            os.unlink(name)

    if os.path.lexists(path):
        shutil.rmtree(path, onerror=again)
    stream.say({})


def real(stream, ask):
    stream.say({"path": escaped(os.path.realpath(path_of(ask["path"])))})


def load(stream, ask):
    try:
        stream.say({"load": os.getloadavg()[0], "processors": os.cpu_count() or 1})
    except OSError:
        stream.say({"load": 0, "processors": 1})


def relay(stream, ask):
    """Become a connection to a port or a socket of this host: from the answer on, bytes as they are. With a secret
    ``word``, what begins with it is for ourselves: rows that a server sends are told by their prints."""
    other = connected(ask)
    word = bytes.fromhex(ask.get("word", ""))
    stream.say({"connected": True})
    stream.write(END)
    try:
        pass_on(stream, other, word)
    except OSError:  # which whoever reads bytes as they are is told by their end
        sys.exit(1)
    sys.exit(0)


def pass_on(stream, other, word):
    """Pass bytes on between the two until one of them has ended."""
    other.sendall(stream.buffer)
    kept = Kept()
    listening = [stream.source, other]
    while other in listening:
        for one in select.select(listening, [], [])[0]:
            if one is other:
                block = other.recv(1 << 18)
                if not block:
                    listening.remove(other)
                whole = memoryview(block)
                while whole:
                    whole = whole[os.write(stream.sink, whole) :]
            else:
                block = os.read(stream.source, 1 << 18)
                if not block:
                    listening.remove(one)
                    other.shutdown(socket.SHUT_WR)
                while block:
                    more = block
                    while more and len(block) < len(word) and word.startswith(block):
                        more = os.read(stream.source, len(word) - len(block))
                        block += more
                    if not word or not block.startswith(word):
                        kept.clear()  # what the server is asked now may change what it sees
                        other.sendall(block)
                        break
                    stream.buffer = block[len(word) :]
                    tell_prints(stream, other, kept)
                    # What was sent before the answer was there.
                    block, stream.buffer = stream.buffer, b""


PRINT = struct.Struct("<Q16s")
AHEAD = 16  # queries that are sent before the first is answered
WHOLE = 0xFFFFFF  # bytes of a packet behind which its row goes on
CLOSING = 9  # bytes of the packet behind the last row
COMPARED = 8 << 20  # bytes of rows that are compared at once
ROWS_KEPT = 32 << 20  # bytes of rows that may be asked for once more
PATIENCE = 0.05  # seconds for which bytes are waited for that need not come
SHIFTED = PRINT.pack((1 << 64) - 2, b"")  # where fewer or more rows come than there were


def tell_prints(stream, other, kept):
    """Of each of some short queries: how many bytes the packets of its rows have, and the tag of these, which are
    mostly those that were ``seen``. Then the connection to the database server goes on as before.

    With ``strips``, of each query the rows in some stretches were ``seen``: first the same is told of each of these,
    before the packets themselves where they are others. Rows that were not those that were seen as a whole are mostly
    asked for so next: they are ``kept`` for a while."""
    (size,) = struct.unpack(">I", stream.exactly(4))
    ask = json.loads(stream.exactly(size).decode("ascii"))
    queries = [text.encode("utf-8") for text in ask["queries"]]
    key, answers = bytes.fromhex(ask["key"]), Answers(other)
    sources = [(ask["strips"] and kept.take(query)) or answers for query in queries]
    wanted = [query for query, source in zip(queries, sources) if source is answers]
    sent = read = 0
    for query, source, seen in zip(queries, sources, ask["seen"]):
        try:
            if source is answers:
                while sent < min(len(wanted), read + AHEAD):
                    head = struct.pack("<I", len(wanted[sent]) + 1)
                    other.sendall(head + b"\x03" + wanted[sent])
                    sent += 1
                read += 1
                answers.begin()
            if ask["strips"]:
                told = b"".join(source.of_strips(key, seen))
            else:
                rows = Rows(key)
                told = PRINT.pack(*answers.of_rows(key, seen, rows))
                kept.put(query, rows, told)
        except Refusal as error:
            # What the server says of it stands behind a size that nothing has.
            told = PRINT.pack((1 << 64) - 1, b"") + struct.pack("<I", len(error.said)) + error.said
        while told:
            told = told[os.write(stream.sink, told) :]
        if answers.refused:
            sys.exit(1)


class Rows:
    """Makes the tag of rows that come piece by piece, and gathers them, as far as they are not too many."""

    def __init__(self, key):
        self.tag = hashlib.blake2b(key=key, digest_size=16)
        self.parts, self.room = [], COMPARED

    def update(self, rows):
        self.tag.update(rows)
        self.room -= len(rows)
        if self.room >= 0:
            self.parts.append(bytes(rows))


class Kept:
    """The rows of the queries that gave other ones than before: those that came last."""

    def __init__(self):
        self.rows = OrderedDict()
        self.size = 0

    def put(self, query, rows, looks):
        if rows.room < 0 or not rows.parts:
            return
        self.take(query)
        self.rows[query] = KeptRows(b"".join(rows.parts), looks)
        self.size += len(self.rows[query].buffer)
        while self.size > ROWS_KEPT:
            self.take(next(iter(self.rows)))

    def take(self, query):
        """Those of a query, which are let go of; None where they are not there."""
        found = self.rows.pop(query, None)
        if found is not None:
            self.size -= len(found.buffer)
        return found

    def clear(self):
        self.rows.clear()
        self.size = 0


class Refusal(Exception):
    def __init__(self, said):
        Exception.__init__(self)
        self.said = said


class Answers:
    """What a server of MariaDB or MySQL answers to queries ("Text Resultset" of their protocol's documentation)."""

    def __init__(self, source):
        self.source = source
        self.buffer, self.at = b"", 0
        self.whole = b""  # what is told of all rows, where that is known
        self.refused = False

    def need(self, count):
        """Have so many bytes at hand."""
        self.have(count, None)

    def have(self, count, patience):
        """The same, but give up where for so many seconds nothing comes: there may be no more. Whether they are
        there."""
        lack = self.at + count - len(self.buffer)
        if lack <= 0:
            return True
        parts = [self.buffer[self.at :]]
        while lack > 0 and select.select([self.source], [], [], patience)[0]:
            part = self.source.recv(1 << 17)  # of more the room is made anew each time
            if not part:
                sys.exit(1)
            parts.append(part)
            lack -= len(part)
        self.buffer, self.at = b"".join(parts), 0
        return lack <= 0

    def packet(self):
        self.need(4)
        length = int.from_bytes(self.buffer[self.at : self.at + 3], "little")
        self.need(4 + length)
        begin = self.at + 4
        self.at = begin + length
        return self.buffer[begin : self.at]

    def refuse(self, said):
        self.refused = True
        raise Refusal(said)

    def begin(self):
        """Come to the rows of the next answer."""
        columns = self.packet()
        if len(columns) != 1 or not 0 < columns[0] < 251:
            self.refuse(columns)
        for _ in range(columns[0] + 1):
            self.packet()

    def same(self, key, seen, behind):
        """The next rows where they are those that were ``seen``, as far as so many bytes more are ``behind`` them;
        otherwise nothing."""
        size, tag = seen
        if not 0 < size <= COMPARED or not self.have(size + behind, PATIENCE):
            return b""
        rows = memoryview(self.buffer)[self.at : self.at + size]
        if hashlib.blake2b(rows, key=key, digest_size=16).hexdigest() != tag:
            return b""
        return rows

    def next_rows(self, count):
        """The packets of so many rows; None where the answer has fewer, or one takes several."""
        end = 0
        for _ in range(count):
            self.need(end + 5)
            at = self.at + end
            length = int.from_bytes(self.buffer[at : at + 3], "little")
            self.need(end + 4 + length)
            at = self.at + end
            first = self.buffer[at + 4]
            if not length or first == 0xFF:
                self.refuse(self.buffer[at + 4 : at + 4 + length])
            if length == WHOLE or (first == 0xFE and length < CLOSING):
                return None
            end += 4 + length
        return self.buffer[self.at : self.at + end]

    def of_strips(self, key, strips):
        """What is told of the stretches of an answer, of which each had so many rows, and looked so."""
        tag, size, rows = hashlib.blake2b(key=key, digest_size=16), 0, b""
        for count, *seen in strips:
            rows = self.same(key, seen, 0)
            if rows:
                yield PRINT.pack(seen[0], bytes.fromhex(seen[1]))
            else:
                rows = self.next_rows(count)
                if rows is None:
                    break
                yield PRINT.pack(len(rows), hashlib.blake2b(rows, key=key, digest_size=16).digest())
                yield rows
            if not self.whole:
                tag.update(rows)
            size += len(rows)
            self.at += len(rows)
        more = self.rest(hashlib.blake2b())
        yield SHIFTED if more or rows is None else self.whole or PRINT.pack(size, tag.digest())

    def of_rows(self, key, seen, others):
        """The size and the tag of an answer's rows, which were ``seen`` as a whole or in several stretches; rows that
        were not go to ``others``, as a whole."""
        if len(seen) == 1:
            rows = self.same(key, seen[0], CLOSING)
            end = self.at + len(rows)
            if rows and closes(self.buffer[end : end + CLOSING]):
                self.at = end + CLOSING
                return seen[0][0], bytes.fromhex(seen[0][1])
        size = 0
        if len(seen) > 1:
            others.room = -1  # of such a large page nobody asks for strips
        for stretch in seen if len(seen) > 1 else ():
            rows = self.same(key, stretch, 0)
            if not rows:
                break
            others.update(rows)
            size += len(rows)
            self.at += len(rows)
        return size + self.rest(others), others.tag.digest()

    def rest(self, tag):
        """Take all rows that are left of an answer; how many bytes they have."""
        size = 0
        goes_on = ended = False
        while not ended:
            buffer, at = self.buffer, self.at
            begin, limit = at, len(buffer) - 4
            end = at + 4
            while at < limit:  # for every row that there is, so nothing else is asked here
                length = buffer[at] | buffer[at + 1] << 8 | buffer[at + 2] << 16
                end = at + 4 + length
                if end > limit + 4:
                    break
                first = buffer[at + 4]
                if not goes_on and (not length or first == 0xFF):
                    self.refuse(buffer[at + 4 : end])
                if first == 0xFE and length < 9 and not goes_on:
                    ended = True
                    break
                goes_on = length == WHOLE
                at = end
            tag.update(memoryview(buffer)[begin:at])
            size += at - begin
            self.at = at
            if ended:
                self.at = end
            else:
                self.need(max(5, end - at if at < limit else 5))
        return size


class KeptRows(Answers):
    """Rows that came before, as an answer, and what was told of all of them."""

    def __init__(self, rows, whole):
        Answers.__init__(self, None)
        self.buffer = rows + b"\5\0\0\0\xfe\0\0\0\0"  # which is the packet behind the last row
        self.whole = whole

    def have(self, count, patience):
        return self.at + count <= len(self.buffer)


def closes(packet):
    """True for what looks like the packet behind the last row."""
    return len(packet) == CLOSING and packet[:3] == b"\5\0\0" and packet[4] == 0xFE


class Told(Exception):
    def __init__(self, error, path):
        Exception.__init__(self)
        self.said = told(error, path)


def told(error, path):
    return json.dumps({
        "message": error.strerror or str(error), "path": path,
        "missing": isinstance(error, FileNotFoundError), "denied": isinstance(error, PermissionError),
    }).encode("ascii")  # fmt: skip


CELL = struct.Struct(">cI")


def cells(row):
    """Values as the exchange carries them: a letter, a length, the bytes."""
    parts = []
    for value in row:
        if value is None:
            parts.append(CELL.pack(b"N", 0))
        elif isinstance(value, int):
            text = b"%d" % value
            parts.append(CELL.pack(b"I", len(text)) + text)
        elif isinstance(value, float):
            parts.append(CELL.pack(b"F", 8) + struct.pack(">d", value))
        else:
            letter = b"T" if isinstance(value, Text) else b"B"
            parts.append(CELL.pack(letter, len(value)) + value)
    return b"".join(parts)


class Text(bytes):
    pass


def values_of(content):
    found, at = [], 0
    while at < len(content):
        letter, length = CELL.unpack_from(content, at)
        at += CELL.size
        part = content[at : at + length]
        at += length
        found.append(
            None if letter == b"N" else int(part) if letter == b"I"
            else struct.unpack(">d", part)[0] if letter == b"F"
            else part.decode("utf-8") if letter == b"T" else part
        )  # fmt: skip
    return found


def forbid(database):
    """From now on no statement may open other files or load libraries."""

    def permits(action, one, two, *_):
        # VACUUM attaches a file without a name.
        denied = (action == 24 and one) or (action == 31 and (two or "").lower() == "load_extension")
        return 1 if denied else 0

    database.set_authorizer(permits)


def told_rows(stream, rows):
    for row in rows:
        stream.record(BYTES, cells(row))


def told_digest(stream, rows):
    """How many rows there are, and a sum over their digests, as ``database/digests.py`` says."""
    count = total = 0
    for row in rows:
        digest = hashlib.sha256(b"".join(map(kept, row))).digest()
        total += int.from_bytes(digest[:8], "big")
        count += 1
    stream.record(BYTES, cells([Text(b"%d-%d" % (count, total))]))


def kept(value):
    """A cell as ``database/row_codec.py`` keeps it."""
    if value is None:
        return b"\xfb"
    if isinstance(value, Text):
        cell = b"T" + value
    elif isinstance(value, bytes):
        cell = b"B" + value
    elif isinstance(value, int):
        cell = b"I%d" % value
    else:
        cell = b"F" + repr(value).encode("ascii")
    size = len(cell)
    if size < 251:
        return bytes([size]) + cell
    for mark, width in ((0xFC, 2), (0xFD, 3), (0xFE, 8)):
        if size < 1 << 8 * width:
            return bytes([mark]) + size.to_bytes(width, "little") + cell


def sqlite(stream, ask):
    """A session with an embedded database: statements come as records, rows go back as records, or their digest."""
    name = path_of(ask["path"])
    uri = "file:" + quote_from_bytes(name) + "?mode=" + ask["mode"]
    try:
        database = sqlite3.connect(uri, uri=True, isolation_level=None, timeout=30)
    except sqlite3.Error as error:
        stream.say({"failed": str(error)})
        return
    forbid(database)
    database.text_factory = Text
    stream.say({"version": sqlite3.sqlite_version})
    stream.write(END)
    sql = ""
    for what, content in stream.records():
        if what == BEGIN:
            sql = content.decode("utf-8")
            many, tell = [], told_rows
        elif what == SPAN:
            tell = told_digest
        elif what == BYTES:
            many.append(values_of(content))
        elif what == DONE:
            try:
                cursor = database.cursor()
                touched = 0
                for values in many or [()]:
                    cursor.execute(sql, values)
                    touched += max(cursor.rowcount, 0)
                    tell(stream, cursor)
                stream.record(DONE, b"%d" % touched)
            except (sqlite3.Error, OverflowError) as error:
                stream.record(LOST, str(error).encode("utf-8"))
            stream.empty()
    database.close()


LOST_SERVER = ("the connection to the database server was lost", 2013)


SILENCE = 20  # seconds


class Failed(Exception):
    """A step of a switch failed. ``code`` is that of the database server, 0 for none of its errors."""

    def __init__(self, message, code=0):
        Exception.__init__(self, message)
        self.code = code


def switch(stream, ask):
    """A switch as one piece: from the moment that it is handed over it ends here, whatever becomes of whoever asked.

    Until then, bytes go between the other side and a database server, so that the account is logged in
    without its password being known here. Then comes ``go``: steps, each with what takes it back.
    """
    server = None
    if ask.get("connect"):
        server = connected(ask["connect"])
    stream.say({"connected": server is not None})
    record = go = None
    try:
        while go is None:
            if server is not None and not stream.buffer:
                ready = select.select([stream.source, server], [], [], stream.patience)[0]
                if not ready:
                    raise EOFError
                if server in ready:
                    block = server.recv(1 << 18)
                    if not block:
                        raise Told(OSError(errno.ECONNRESET, "the database server closed the connection"), "")
                    stream.write(DATA, block)
                    continue
            kind, content = stream.frame()
            if kind == DATA:
                server.sendall(content)
            elif kind != JSON:  # given up
                return
            elif record is None:
                record = Record(json.loads(content.decode("ascii")))
                stream.say({"ready": True})
                # A line that went without a word must not keep everybody else from the target.
                stream.patience = SILENCE
            else:
                asked = json.loads(content.decode("ascii"))
                stream.drain()  # it is handed over with its end, not before
                go = asked
    finally:
        if go is None and record is not None:  # nothing was done
            record.remove()
    for name in ("SIGHUP", "SIGINT", "SIGTERM", "SIGPIPE"):
        signal.signal(getattr(signal, name), signal.SIG_IGN)
    try:
        os.setsid()
    except OSError:
        pass
    answer = Switch(server, go).run(record)
    try:
        stream.say(answer)
    except OSError:  # nobody is there any more to hear it
        pass


class Record:
    """What says that a switch is under way; locked for as long as somebody here sees to it."""

    def __init__(self, ask):
        self.path, beside = path_of(ask["path"]), path_of(ask["beside"])
        self.handle = os.open(beside, os.O_RDWR | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW, 0o644)
        try:
            fcntl.flock(self.handle, fcntl.LOCK_EX)
            text = ask["text"].encode("ascii")
            while text:
                text = text[os.write(self.handle, text) :]
            os.fsync(self.handle)
            os.replace(beside, self.path)
        except OSError:
            os.unlink(beside)
            raise

    def become(self, text):
        os.replace(self.path, path_of(text))
        os.close(self.handle)

    def remove(self):
        os.unlink(self.path)
        os.close(self.handle)


def connected(where):
    try:
        if where.get("socket"):
            found = socket.socket(socket.AF_UNIX)
            found.connect(path_of(where["socket"]))
        else:
            found = socket.create_connection((where["name"], where["port"]), 20)
        found.settimeout(None)
        return found
    except OSError as error:
        raise Told(error, where.get("socket") or "%s:%s" % (where["name"], where["port"]))


def why(error):
    """What went wrong, without the number that the system has for it."""
    if not isinstance(error, OSError) or not error.strerror:
        return str(error)
    return (os.fsdecode(error.filename) + ": " if error.filename else "") + error.strerror


class Switch:
    def __init__(self, server, go):
        self.server = server
        self.go = go
        self.rest = b""
        self.remarks = []
        self.patched = 0
        self.undo = []
        self.exchanged = False

    def run(self, record):
        try:
            for step in self.go["steps"]:
                getattr(self, "do_" + step["do"])(step)
        except (Failed, OSError) as error:
            answer = {"failed": why(error), "code": getattr(error, "code", 0)}
            try:
                while self.undo:
                    self.undo.pop()()
            except (Failed, OSError) as second:
                answer["half"], answer["code"] = why(second), getattr(second, "code", 0)
                os.close(record.handle)
                return answer
            record.become(self.go["undone"])
            return answer
        record.become(self.go["done"])
        return {"remarks": self.remarks, "patched": self.patched}

    def do_put(self, step):
        path, beside = path_of(step["path"]), path_of(step["beside"])
        text = step["text"].replace("{now}", "%d" % time.time())
        self.undo.append(lambda: self.do_remove(step))
        self.undo.append(lambda: self.do_remove({"path": step["beside"]}))
        handle = os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW, 0o644)
        try:
            os.write(handle, text.encode("utf-8"))
        finally:
            os.close(handle)
        os.chmod(beside, 0o644)
        os.replace(beside, path)

    def do_remove(self, step):
        time.sleep(step.get("after", 0))
        try:
            os.unlink(path_of(step["path"]))
        except FileNotFoundError:
            pass

    def do_wait(self, step):
        time.sleep(step["seconds"])

    def do_sync(self, step):
        os.sync()

    def do_acts(self, step):
        below = Below(path_of(step.get("root", "")))
        for do, one, other, mode, soft in step["acts"]:
            path, to = path_of(one), path_of(other)
            back = self.inverse(do, path, to, below)
            if do == "folder":  # it can come half of the way
                self.undo.append(back)
                back = None
            try:
                one_act(do, path, to, mode, below)
            except OSError:
                if soft:
                    continue
                raise
            if back is not None:
                self.undo.append(back)

    def inverse(self, do, path, other, below):
        if do == "rename":
            return lambda: below.rename(other, path)
        if do == "swap":
            return lambda: one_act("swap", path, other, 0, below)
        if do == "mode":
            before = stat.S_IMODE(os.lstat(path).st_mode) if os.path.lexists(path) else 0o755
            return lambda: os.path.lexists(path) and below.mode(path, before)
        if do == "remove-folder" and os.path.isdir(path):
            before = stat.S_IMODE(os.lstat(path).st_mode)

            def again():
                below.make(path)
                below.mode(path, before)

            return again
        if do == "folder":
            made = []
            while path and not os.path.lexists(path):
                made.append(path)
                path = os.path.dirname(path)

            def away():
                for folder in made:
                    try:
                        os.rmdir(folder)
                    except OSError:
                        return

            return away
        return None

    def do_sqlite(self, step):
        self.sqlite_at(step["path"], step["forth"])
        self.undo.append(lambda: self.sqlite_at(step["path"], step["back"]))

    def sqlite_at(self, path, statements):
        if sqlite3 is None:
            raise Failed("there is no SQLite")
        try:
            database = sqlite3.connect(path_of(path), isolation_level=None, timeout=30)
            forbid(database)
            try:
                for sql in statements:
                    database.execute(sql)
            finally:
                database.close()  # what was not committed never was
        except sqlite3.Error as error:
            raise Failed(str(error))

    def do_sql(self, step):
        self.undo.append(lambda: self.statements(step["back"]))
        self.exchanged = not any(item.get("exchange") for item in step["forth"])
        try:
            self.statements(step["forth"])
        except Failed as error:
            if not self.exchanged and error.code != LOST_SERVER[1]:
                self.undo.pop()  # the server refused the exchange, which is all or nothing
            raise

    def statements(self, items):
        for item in items:
            if "views" in item:
                self.views(item)
                continue
            try:
                touched = self.query(item["sql"])
            except Failed as error:
                if error.code not in item.get("soft", ()):
                    raise
                if item.get("remark"):
                    self.remarks.append("%s: %s (error %d)" % (item["remark"], error, error.code))
                if item.get("stop"):
                    return
            else:
                if item.get("exchange"):
                    self.exchanged = True
                if item.get("counted"):
                    self.patched += touched

    def views(self, item):
        """Views may need one another: go round as long as each round brings one in."""
        waiting = item["views"]
        while waiting:
            failed = []
            for name, sql in waiting:
                try:
                    self.query(sql)
                except Failed as error:
                    if error.code not in item["soft"]:
                        raise
                    failed.append((name, sql, error))
            if len(failed) == len(waiting):
                self.remarks += ["%s: %s (error %d)" % (n, e, e.code) for n, _, e in failed]
                return
            waiting = [(name, sql) for name, sql, _ in failed]

    def query(self, sql):
        """A statement without rows, by the protocol's COM_QUERY; how many rows it touched."""
        body = b"\x03" + sql.encode("utf-8")
        number = 0
        while True:
            part, body = body[:0xFFFFFF], body[0xFFFFFF:]
            try:
                self.server.sendall(struct.pack("<I", len(part))[:3] + bytes([number]) + part)
            except OSError:
                raise Failed(*LOST_SERVER)
            number = (number + 1) % 256
            if len(part) < 0xFFFFFF:
                break
        size = struct.unpack("<I", self.exactly(4)[:3] + b"\0")[0]
        answer = self.exactly(size)
        if answer[:1] == b"\x00":
            return number_at(answer, 1)
        if answer[:1] == b"\xff":
            code = struct.unpack("<H", answer[1:3])[0]
            text = answer[9:] if answer[3:4] == b"#" else answer[3:]
            raise Failed(text.decode("utf-8", "replace"), code)
        raise Failed("the database server answered what nobody asked")

    def exactly(self, size):
        while len(self.rest) < size:
            try:
                block = self.server.recv(1 << 16)
            except OSError:
                block = b""
            if not block:
                raise Failed(*LOST_SERVER)
            self.rest += block
        found, self.rest = self.rest[:size], self.rest[size:]
        return found


def number_at(body, at):
    """A length-encoded number of the protocol."""
    first = body[at]
    if first < 251:
        return first
    width = {252: 2, 253: 3, 254: 8}[first]
    return int.from_bytes(body[at + 1 : at + 1 + width], "little")


def busy(stream, ask):
    """Whether somebody carries out the switch whose record lies at a path."""
    try:
        handle = os.open(path_of(ask["path"]), os.O_RDONLY)
    except FileNotFoundError:
        stream.say({"busy": False})
        return
    try:
        fcntl.flock(handle, fcntl.LOCK_SH | fcntl.LOCK_NB)
        stream.say({"busy": False})
    except OSError:
        stream.say({"busy": True})
    finally:
        os.close(handle)


DOINGS = {"hello": hello, "look": looks, "scan": scan, "names": names, "read": read, "write": write, "act": act,
          "digest": digest, "room": room, "flush": flush, "remove": remove, "real": real,
          "load": load, "relay": relay, "sqlite": sqlite, "switch": switch, "busy": busy}  # fmt: skip


def serve(source, sink):
    stream = Stream(source, sink)
    while True:
        try:
            kind, content = stream.frame()
        except EOFError:
            return
        ask = json.loads(content.decode("ascii"))
        stream.packing = bool(ask.get("pack"))
        open_request = ask["do"] == "write"
        if not open_request and ask["do"] != "switch":
            stream.drain()
        stream.waiting, stream.size, stream.rest = [], 0, 0
        try:
            DOINGS[ask["do"]](stream, ask)
            stream.write(END)
        except EOFError:
            return
        except Told as error:
            stream.write(ERROR, error.said)
        except OSError as error:
            if open_request:
                stream.drain()
            name = error.filename
            name = escaped(name) if isinstance(name, bytes) else ""
            stream.write(ERROR, told(error, name))


if __name__ == "vetrin_helper":
    try:
        serve(0, 1)
    except (BrokenPipeError, KeyboardInterrupt):
        pass
