"""The helper in its forms: text that is sent to a host and run there from memory.

They speak the exchange that ``helper_protocol`` describes and know nothing of the channel that it comes through.
"""

from importlib import resources

# What an interpreter is told so that it runs the helper whose text follows on the standard input, after its
# length. One line, for any shell, without a quotation mark of the single kind.
PYTHON = (
    "import sys,os;n=int(sys.stdin.buffer.raw.readline());s=bytearray();"
    "list(iter(lambda:s.extend(os.read(0,n-len(s)) or sys.exit()) or len(s)<n,False));"
    'exec(compile(bytes(s),"helper","exec"),{"__name__":"vetrin_helper"})'
)
PHP = (
    '$n=(int)fgets(STDIN);$s="";while(strlen($s)<$n&&!feof(STDIN))$s.=fread(STDIN,$n-strlen($s));'
    "eval(substr($s,5));"
)


def source(name: str) -> bytes:
    """The text of a form, with what it shares with others in front of it: ``helper.py``, ``helper.php``, or what
    comes behind the head of a relay, ``relay.php``."""
    text = (resources.files(__name__) / name).read_bytes()
    if name == "helper.py":
        return (resources.files("vetrin.files") / "open_folders.py").read_bytes() + b"\n" + text
    shared = (resources.files(__name__) / "shared.php").read_bytes()
    return shared + text.removeprefix(b"<?php\n")
