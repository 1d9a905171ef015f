"""Where a database password comes from when the site's own configuration does not tell it."""

from __future__ import annotations

import os

from .project import password_variable

SERVICE = "vetrin"


def database_password(environment: str) -> str | None:
    """The password from the environment variable, else from the operating system's keyring."""
    return _from(password_variable(environment), environment)


def creator_password(environment: str) -> str:
    """The password of the account that may make an environment's database (``create-as``)."""
    return _from(password_variable(environment, "CREATE"), f"{environment}-create") or ""


def web_variable(environment: str) -> str:
    """The environment variable that may hold the password for the pages of an environment."""
    return password_variable(environment, "WEB")


def web_password(environment: str) -> str | None:
    """The password for the pages of a protected environment (``web.user``), from the variable or the keyring."""
    return _from(web_variable(environment), f"{environment}-web")


def web_refusal(environment: str, user: str) -> tuple[str, str]:
    """What a web server wants that answers with status 401, and what to do; ``user`` is that of vetrin.toml."""
    web = f"[environment.{environment}.web]"
    where = f"from {web_variable(environment)} or the keyring (service {SERVICE}, user {environment}-web)"
    if not user:
        return (
            "asks for a name and a password (401)",
            f"write user in {web}, or give --web-user to init and add; the password comes {where}",
        )
    if web_password(environment) is None:
        return f"asks for the password of {user} (401)", f"it comes {where}"
    return f"refuses the name and password of {web}", f"correct them; the password comes {where}"


def upload_password(environment: str) -> str | None:
    """The password of the account that uploads the relay of an environment, from the variable or the keyring."""
    return _from(password_variable(environment, "UPLOAD"), f"{environment}-upload")


def relay_variable(environment: str) -> str:
    """The environment variable that may hold the key of an environment's relay."""
    return f"VETRIN_{environment.upper().replace('-', '_')}_RELAY_KEY"


def relay_key(environment: str) -> str | None:
    """The key of an environment's relay, from the variable or the keyring (user ENVIRONMENT-relay)."""
    return _from(relay_variable(environment), f"{environment}-relay")


def keep_relay_key(environment: str, text: str) -> bool:
    """Put the key of a relay into the keyring; False where there is none that takes it."""
    # Slow to load, as below.
    import keyring
    import keyring.errors

    try:
        keyring.set_password(SERVICE, f"{environment}-relay", text)
        return keyring.get_password(SERVICE, f"{environment}-relay") == text
    except (keyring.errors.KeyringError, RuntimeError):
        return False


STORE_VARIABLE = "VETRIN_STORE_PASSPHRASE"


def store_passphrase() -> str | None:
    """The passphrase of the store, from the environment variable, else from the keyring (user store)."""
    return os.environ.get(STORE_VARIABLE) or secret("store")


def _from(variable: str, name: str) -> str | None:
    """What an environment variable says, else what the keyring holds under a name."""
    value = os.environ.get(variable)
    return value if value is not None else secret(name)


def secret(name: str) -> str | None:
    """What the operating system's keyring holds for Vetrin under a name; None where it holds nothing."""
    # Slow to load, and needed only where no variable has the secret.
    import keyring
    import keyring.errors

    try:
        return keyring.get_password(SERVICE, name)
    except keyring.errors.KeyringError:
        return None  # no keyring on this machine is no error: there may be nothing to ask it
