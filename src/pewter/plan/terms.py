"""What a site file says of how a look is judged; for what is judged without a look, too."""

from pewter.expectations import Terms

from .site_file import SiteFile
from .texts import read_canonical

SUPPOSITIONS = ("hsts",)


def terms_of(site_file: SiteFile) -> Terms:
    """What a site file alone says of how a look is judged."""
    canonical, servers = site_file.site.canonical, site_file.site.server
    return Terms(
        site_file.expect,
        read_canonical(canonical).origin if canonical else None,
        site_file.levels,
        site_file.accept,
        server=servers if isinstance(servers, str) else "",
        servers=servers if isinstance(servers, dict) else {},
    )
