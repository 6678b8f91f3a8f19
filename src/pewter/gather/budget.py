"""What one look may spend, whatever a zone, a page or a certificate says."""

import msgspec


class Budget(msgspec.Struct, frozen=True):
    """Bounds of one look; what goes beyond one is said once, and not looked at."""

    addresses: int = 12
    """Of one name that are contacted."""

    connections: int = 6000
    connections_of_a_name: int = 1000
    """So many, or as many for each name where that is more."""

    endpoints: int = 400
    moves: int = 20
    """Addresses to which pages move their visitors that are followed."""

    style_sheets: int = 5
    """Of one page, or of a sheet that imports others."""

    all_style_sheets: int = 20
    """Of one look."""

    parts: int = 30
    """Scripts, sheets and frames of all pages that are asked for, for where they are redirected."""

    covered_names: int = 20
    """Names of certificates that are not under review and are looked up."""

    def connections_for(self, names: int) -> int:
        return max(self.connections, self.connections_of_a_name * names)
