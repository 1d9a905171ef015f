"""Getting at the pages of an environment that not everybody may see: a name and password for the web server, a
certificate of one's own; and names that only browsers know."""

from __future__ import annotations

from collections.abc import Generator
from typing import TYPE_CHECKING

from ..config import Environment, web_password
from ..rewrite import Address

if TYPE_CHECKING:
    import httpx

_TIMEOUT = 20.0  # seconds without a word
_HEADERS = {"user-agent": "vetrin-check", "cache-control": "no-cache"}


def client_for(environment: Environment) -> httpx.Client:
    """What gets pages of an environment as its visitors' browsers do.

    Raises:
        ProjectError: its certificate cannot be read.
    """
    import httpx  # it takes long to load, and most commands look at no page

    from ..remote.web import trusted  # the same

    class OwnAddresses(httpx.Auth):
        """The name and password of the environment, told to its own addresses alone."""

        def __init__(self, user: str, password: str) -> None:
            self._basic = httpx.BasicAuth(user, password)

        def auth_flow(
            self, request: httpx.Request
        ) -> Generator[httpx.Request, httpx.Response, None]:
            if _is_of(request.url, environment):
                yield from self._basic.auth_flow(request)
            else:
                yield request

    class Near(httpx.HTTPTransport):
        """Names below ``localhost`` lead to this machine (RFC 6761), also where the system does not know that."""

        def handle_request(self, request: httpx.Request) -> httpx.Response:
            if request.url.host.endswith(".localhost"):
                request.url = request.url.copy_with(host="127.0.0.1")
            return super().handle_request(request)

    web = environment.web
    verify = trusted(web, environment.name, str(environment.address))
    auth = OwnAddresses(web.user, web_password(environment.name) or "") if web.user else None
    return httpx.Client(
        timeout=_TIMEOUT, headers=_HEADERS, auth=auth, transport=Near(verify=verify)
    )


def _is_of(url: httpx.URL, environment: Environment) -> bool:
    here = Address(url.scheme, url.host, url.port)
    return any(
        (one.scheme, one.host, one.port) == (here.scheme, here.host, here.port)
        for one in environment.addresses
    )
