"""How the addresses of sites, and the paths of their folders, are written."""

from __future__ import annotations

from nostos.core.hosts.far_path import on_machine
from nostos.core.sites.recognise import Site
from nostos.core.values.urls import UrlForms


def forms_of(site: Site, *also: Site) -> UrlForms:
    """The ways in which a site's address and folder are written. also: sites whose addresses mean the same in it."""
    return UrlForms(site.url, tuple(s.url for s in also), _folder(site), tuple(filter(None, map(_folder, also))),
                    tuple(zip(*(s.further for s in (site, *also)), strict=True)))


def _folder(site: Site) -> str:
    return on_machine(site.files.at) if site.has_files else ""
