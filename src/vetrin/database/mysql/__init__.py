"""MariaDB and MySQL."""

from .accounts import VERIFIED, Credentials
from .database import MysqlDatabase

__all__ = ["VERIFIED", "Credentials", "MysqlDatabase"]
