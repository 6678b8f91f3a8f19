"""Asking CAs whether certificates are revoked: OCSP (RFC 6960) and CRLs (RFC 5280 section 5), by GET.

An answer is kept unread; the judge makes of it what it says.  Each address is asked once in a look.
"""

import itertools
from collections.abc import Sequence

from pewter.evidence import Seen, StatusAnswer, StatusMethod, Unseen
from pewter.octets import DecodeError
from pewter.pki import Certificate
from pewter.pki.ocsp import build_ocsp_request, ocsp_get_url

from ..fetching import fetch_file
from ..journeys import JourneyContext

MAX_OCSP_OCTETS = 1 << 16
MAX_CRL_OCTETS = 16 << 20
"""The longest lists of public CAs hold a few hundred thousand entries of 37 octets."""

MAX_ADDRESSES = 2
"""Of one kind in one certificate that are asked."""

MAX_CERTIFICATES = 4
"""Of one path that are asked for."""

Question = tuple[StatusMethod, str, str, str]
"""Method, address as named, address to fetch, fingerprint."""


def questions_for(path: Sequence[Certificate]) -> list[Question]:
    """What is to be asked about a path, leaf first; its last certificate is only there as an issuer."""
    found: list[Question] = []
    for certificate, issuer in itertools.islice(itertools.pairwise(path), MAX_CERTIFICATES):
        facts = certificate.extensions
        try:
            request = build_ocsp_request(certificate, issuer)
        except DecodeError:
            continue
        for url in facts.ocsp_responders[:MAX_ADDRESSES]:
            found.append((StatusMethod.OCSP, url, ocsp_get_url(url, request), certificate.sha256))
        found += [(StatusMethod.CRL, url, url, certificate.sha256) for url in facts.crl_uris[:MAX_ADDRESSES]]
    return found


async def ask(question: Question, context: JourneyContext) -> StatusAnswer:
    method, url, fetched, of = question
    limit = MAX_OCSP_OCTETS if method is StatusMethod.OCSP else MAX_CRL_OCTETS
    body = await fetch_file(fetched, context, limit)
    return StatusAnswer(method, url, of, body if isinstance(body, Unseen) else Seen(body))
