"""MariaDB and MySQL."""

from .database import Credentials, MysqlDatabase

__all__ = ["Credentials", "MysqlDatabase"]
