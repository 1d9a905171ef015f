"""The helper in its forms: text that is sent to a host and run there from memory.

They speak the exchange that ``frames`` describes and know nothing of the channel that it comes through.
"""

from importlib import resources


def source(name: str) -> bytes:
    """The text of a form: ``helper.py`` or ``helper.php``."""
    return (resources.files(__name__) / name).read_bytes()
