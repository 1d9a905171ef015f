"""Finding the sites in a folder, here or on another machine, and what each says of itself."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

from msgspec import Struct

from ..cms import Definition, Place, SiteConfiguration, detect, read_configuration
from ..config import Environment, Host, Project, RelayHost, WebAccess
from ..errors import ConfigurationError, DatabaseError, FilesError, HostError, ReachError
from ..files import RemotePath
from ..remote import Hosts
from ..rewrite import Address
from .address_map import UNKNOWN
from .open import open_site
from .summary import Summary, standing

# Where hosts keep the sites of an account; the folder in which a session begins comes first.
USUAL_FOLDERS = (".", "/srv/www", "/var/www")
_DEEPEST = 2  # folders below the one that is named
_MOST = 500  # folders of one level that are looked into


class Where(Struct, frozen=True):
    """A folder, on this machine or on a host; ``folder`` may be empty for a host's usual ones."""

    host: Host | RelayHost | None
    folder: str

    @classmethod
    def parse(
        cls, text: str, environment: str = "production", web: WebAccess | None = None
    ) -> Where:
        """Read a folder's path, an address such as ``ssh://deploy@harrowmere.example/srv/www/harrowmere``, or that of
        a relay's file, whose key is kept under the name of an ``environment``, behind what its web server asks for.

        Raises:
            HostError: an address that is not understood.
        """
        if "://" not in text:
            return cls(None, text)
        scheme, _, rest = text.partition("://")
        if scheme in ("http", "https") and text.endswith(".php"):
            return cls(RelayHost.parse(text, environment, web or WebAccess()), ".")
        if scheme in ("http", "https"):
            raise HostError(
                f"{text} is a web address",
                "say where its files are: ssh://USER@HOST/FOLDER, or a folder; on a host without SSH, "
                "vetrin relay makes a file whose address can stand here",
            )
        name, slash, folder = rest.partition("/")
        if folder.startswith("~"):
            return cls(Host.parse(f"{scheme}://{name}"), folder.removeprefix("~/") or ".")
        return cls(Host.parse(f"{scheme}://{name}"), slash + folder if folder else "")

    def __str__(self) -> str:
        if self.host is None:
            return self.folder
        if isinstance(self.host, RelayHost):
            return self.host.url
        return f"{self.host}{self.folder if self.folder.startswith('/') else '/~/' + self.folder}"


@dataclass
class Discovered:
    """A site that was found. ``problem`` says why its database could not be looked at; ``addresses`` are those that
    it has by its settings, then by its configuration."""

    root: Place
    definition: Definition
    configuration: SiteConfiguration | None = None
    title: str | None = None
    addresses: list[Address] = field(default_factory=list)
    summary: Summary | None = None
    problem: str = ""


def folder_at(hosts: Hosts, where: Where, name: str) -> list[Place]:
    """The folders to be looked into; ``name`` is who is said to be there where the host cannot be reached.

    Raises:
        ReachError: it cannot be reached.
    """
    if where.host is None:
        return [Path(where.folder).expanduser().absolute()]
    there = hosts.at(where.host, name)
    names = (where.folder,) if where.folder else USUAL_FOLDERS
    return [place for place in (there.place(text) for text in names) if place.is_dir()]


def sites_below(folder: Place) -> Iterator[tuple[Place, Definition]]:
    """The roots of sites in a folder or up to two levels below it, nearest first; also one within another."""
    level: list[tuple[Place, bool]] = [(folder, False)]
    for _ in range(_DEEPEST + 1):
        below: list[tuple[Place, bool]] = []
        for place, within in level:
            names, folders = _listed(place)
            definition = detect(place, names)
            if definition is not None:
                yield place, definition
            # Of a site's own folders only one that is itself a site is of interest.
            if not within:
                below += [(one, definition is not None) for one in folders]
        level = below[:_MOST]


def _listed(place: Place) -> tuple[list[str], list[Place]]:
    """What lies directly in a folder: all names, and the folders; links and what may not be read do not count."""
    try:
        if isinstance(place, RemotePath):
            found = place.machine.names(place.path)
            folders: list[Place] = [
                place / n for n, status in found if status.kind == "folder" and n[:1] != "."
            ]
            return [name for name, _ in found], sorted(folders, key=str)
        assert isinstance(place, Path)
        items = sorted(place.iterdir())
        return [item.name for item in items], [
            item
            for item in items
            if not item.name.startswith(".") and not item.is_symlink() and item.is_dir()
        ]
    except (OSError, FilesError):
        return [], []


def look_at(
    hosts: Hosts, where: Where, root: Place, definition: Definition, name: str, *, size: bool = True
) -> Discovered:
    """What a site says of itself; with ``size``, its media files are counted."""
    found = Discovered(root, definition)
    environment = Environment(
        name, UNKNOWN, Path(str(root)), host=where.host, role="production", access="read-only"
    )
    project = Project(Path(), "", definition, {name: environment})
    try:
        # What is set for a process here says nothing of one on another machine.
        environ: dict[str, str] | None = None if where.host is None else {}
        found.configuration = read_configuration(root, definition, environ=environ)
    except (ConfigurationError, FilesError) as error:
        found.problem = str(error)
        return found
    try:
        with open_site(hosts, project, environment) as site:
            found.title = site.title
            _add(found.addresses, *(address for _, address in site.recorded_addresses()))
            found.summary = standing(site, files=size)
    except (ReachError, DatabaseError, FilesError) as error:
        found.problem = error.reason if isinstance(error, ReachError) else str(error)
    for text in found.configuration.addresses:
        try:
            _add(found.addresses, Address.parse(text))
        except ValueError:
            continue
    return found


def _add(known: list[Address], *addresses: Address) -> None:
    known += [address for address in dict.fromkeys(addresses) if address not in known]
