"""Sans-I/O TLS: hellos, records, certificate messages, the TLS 1.3 key schedule and code points."""

from .codepoints import Version, alert_name, version_name, version_of_name
from .conversation import Conversation, fingerprint
from .suites import suite_name

__all__ = ["Conversation", "Version", "alert_name", "fingerprint", "suite_name", "version_name", "version_of_name"]
