"""MariaDB and MySQL."""

from .accounts import Credentials
from .database import MysqlDatabase

__all__ = ["Credentials", "MysqlDatabase"]
