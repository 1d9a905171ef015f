"""Which web server is believed to be that of an environment."""

from __future__ import annotations

import hashlib
import socket
import ssl
from functools import lru_cache
from urllib.parse import urlsplit

from ..config import WebAccess
from ..errors import ConnectionFailed, ProjectError

_NO_CHECK_TIME = 0x200000  # X509_V_FLAG_NO_CHECK_TIME of OpenSSL
_CONNECTING = 15.0  # seconds


def trusted(web: WebAccess, environment: str, url: str) -> ssl.SSLContext:
    """What a server at ``url`` has to show: a certificate of an authority that is known here, or of the environment's
    own, or the very one whose fingerprint is pinned.

    Raises:
        ProjectError: the certificate of the authority cannot be read.
        ConnectionFailed: the server has another certificate than the pinned one.
    """
    parts = urlsplit(url)
    if web.fingerprint and parts.scheme == "https":
        return _pinned(web.fingerprint, environment, parts.hostname or "", parts.port or 443)
    found = ssl.create_default_context()
    if web.certificate is not None:
        try:
            found.load_verify_locations(web.certificate)
        except (OSError, ssl.SSLError) as error:
            raise ProjectError(
                f"[environment.{environment}.web] certificate: {web.certificate} cannot be read: "
                f"{error.strerror or error}"
            ) from error
    return found


@lru_cache
def _pinned(fingerprint: str, environment: str, name: str, port: int) -> ssl.SSLContext:
    """Trust in one certificate. It is fetched first, with nothing told to whoever shows it."""
    asking = ssl.create_default_context()
    asking.check_hostname = False
    asking.verify_mode = ssl.CERT_NONE
    try:
        with (
            socket.create_connection((name, port), _CONNECTING) as plain,
            asking.wrap_socket(plain, server_hostname=name) as secured,
        ):
            shown = secured.getpeercert(binary_form=True) or b""
    except OSError as error:
        raise ConnectionFailed(
            f"{name}:{port}: {error.strerror or error}", "see that the site itself can be reached"
        ) from error
    has = hashlib.sha256(shown).hexdigest()
    if has != fingerprint:
        raise ConnectionFailed(
            f"{name}:{port}: its certificate is not the pinned one; it has the fingerprint {has}",
            f"if it was renewed, write that as fingerprint in [environment.{environment}.web]; "
            "if not, somebody stands in between",
        )
    found = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    found.check_hostname = False
    found.load_verify_locations(cadata=shown)
    # The certificate itself is what is trusted, whoever signed it and for how long.
    found.verify_flags |= ssl.VERIFY_X509_PARTIAL_CHAIN | ssl.VerifyFlags(_NO_CHECK_TIME)
    return found
