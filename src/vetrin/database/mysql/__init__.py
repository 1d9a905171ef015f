"""MariaDB and MySQL. Nothing is loaded with the package: what a site needs of it is."""
