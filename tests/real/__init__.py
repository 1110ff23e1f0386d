"""Tests on real systems: MariaDB, and the PHP content management system of Debian's package `wordpress`."""
