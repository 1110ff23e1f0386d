"""In an installation of several sites: whose an item is. What is another site's, or shared by all, goes home only when
it is named.
"""

from __future__ import annotations

from dataclasses import replace

from nostos.core.compare.items import Comparison, Item
from nostos.core.profiles.network import Network


def in_scope(comparison: Comparison, scope: int | None) -> Comparison:
    """The comparison of a voyage that is of one site, by its number (None: of all of them). What belongs to a site that
    live does not have goes only when it is named, in any case: live may give its number to another."""
    network = comparison.rows.profile.network
    if network is None or not comparison.rows.profile.networked:
        return comparison
    numbers = {network.first, *network.numbers(comparison.rows.target_tables)}
    items = {}
    for name, item in comparison.items.items():
        whose = sites_of(network, item)
        whole_site = (scope is None or scope in whose) and all(n is None or n in numbers for n in whose)
        items[name] = item if whole_site or item.careful else replace(item, careful=True)
    return replace(comparison, items=items)


def sites_of(network: Network, item: Item) -> set[int | None]:
    """The sites whose tables or files an item is in; None among them: something that all share."""
    sites = {network.site_of(state.table) for state in item.rows}
    sites |= {network.site_of_file(file.path) for file in item.files}
    sites |= {network.site_of(step.table) for step in item.schema}
    return sites
