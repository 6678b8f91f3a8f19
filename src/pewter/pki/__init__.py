"""Certificates: reading, path building and validation, identity, validity and stores."""

from .assessment import ChainAssessment, assess_chain
from .certificates import Certificate, MalformedCertificate, read_certificate
from .crls import judge_crl
from .forms import FormFault, form_faults
from .identifiers import MUST_STAPLE
from .identity import covers, presented_names
from .keys import KeyFacts
from .life import LONGEST_LIVES, Life, life_of, longest_life
from .ocsp import judge_ocsp
from .paths import FaultKind, Path, PathFault, build_paths
from .pem import read_certificate_blocks
from .signatures import weak_hash
from .status import StatusKind, StatusVerdict
from .stores import Store, read_store
from .timestamps import Log

__all__ = [
    "LONGEST_LIVES",
    "MUST_STAPLE",
    "Certificate",
    "ChainAssessment",
    "FaultKind",
    "FormFault",
    "KeyFacts",
    "Life",
    "Log",
    "MalformedCertificate",
    "Path",
    "PathFault",
    "StatusKind",
    "StatusVerdict",
    "Store",
    "assess_chain",
    "build_paths",
    "covers",
    "form_faults",
    "judge_crl",
    "judge_ocsp",
    "life_of",
    "longest_life",
    "presented_names",
    "read_certificate",
    "read_certificate_blocks",
    "read_store",
    "weak_hash",
]
