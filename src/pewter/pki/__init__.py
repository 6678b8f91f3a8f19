"""Certificates: reading, path building and validation, identity, validity and stores."""

from .assessment import ChainAssessment, assess_chain
from .certificates import Certificate, MalformedCertificate, read_certificate
from .identity import covers, presented_names
from .life import Life, life_of
from .paths import FaultKind, Path, PathFault, build_paths
from .pem import read_certificate_blocks
from .stores import Store, read_store

__all__ = [
    "Certificate",
    "ChainAssessment",
    "FaultKind",
    "Life",
    "MalformedCertificate",
    "Path",
    "PathFault",
    "Store",
    "assess_chain",
    "build_paths",
    "covers",
    "life_of",
    "presented_names",
    "read_certificate",
    "read_certificate_blocks",
    "read_store",
]
