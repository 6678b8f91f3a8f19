"""The certificates: who serves each, its path with the broken link marked in place, its life."""

import datetime
from collections.abc import Sequence

from pewter.judge.results import LifeDrawn, LifeState, Link, LinkState, ServedCertificate
from pewter.levels import Level

from .sheet import STYLES, Marks, Sheet, listed

_BAR_CELLS = 24
_LIFE_LEVELS = {
    LifeState.IN_DATE: None,
    LifeState.RENEWAL_DUE: Level.NOTE,
    LifeState.RENEWAL_OVERDUE: Level.WEAKENS,
    LifeState.EXPIRING: Level.EXPOSES,
    LifeState.EXPIRED: Level.BREAKS,
    LifeState.NOT_YET_VALID: Level.BREAKS,
}


def render_certificates(
    sheet: Sheet,
    certificates: Sequence[ServedCertificate],
    at: datetime.datetime,
    *,
    lacking: str = "",
    in_brief: bool = False,
) -> None:
    """``lacking``: for certificates in files, of which no server has said anything, what a link is that is not there.

    ``in_brief``: sound ones together, of others what is not.
    """
    if not certificates:
        return
    sound = [each for each in certificates if in_brief and _level(each) is None]
    if in_brief:
        if sound:
            words = "; ".join(f"{_short_places(sheet, each)}{_until(each.life)}" for each in sound)
            sheet.labelled(2, sheet.marks.holds, f"certificates: {words}", label_width=1)
        for certificate in certificates:
            if certificate not in sound:
                _unsound(sheet, certificate)
        return
    sheet.heading("Certificates", f"judged for {at:%Y-%m-%d %H:%M} UTC")
    verdicts = {certificate.stores for certificate in certificates if certificate.stores}
    if len(verdicts) == 1 and len(next(iter(verdicts))) > 1:
        sheet.labelled(2, "trusted by", _stores(sheet.marks, next(iter(verdicts))), label_width=10)
    without_staple = [each for each in certificates if each.lacks_staple]
    if not lacking and without_staple:
        words = "the CA's word that a certificate is not revoked, sent along with it: optional, and not sent by "
        places = [place for each in without_staple for place in each.places]
        everywhere = not any(each.staple for each in certificates)
        sheet.labelled(2, "stapling", words + ("any server" if everywhere else listed(places)), label_width=10)
    terms = ("whole", lacking) if lacking else ("whole as served", "NOT SENT")
    for certificate in certificates:
        _certificate(sheet, certificate, with_stores=len(verdicts) > 1, words=terms)


def _stores(marks: Marks, verdicts: tuple[tuple[str, bool], ...]) -> str:
    """Each root store by itself."""
    return f" {marks.dot} ".join(f"{title}: {'yes' if trusts else 'no'}" for title, trusts in verdicts)


def _certificate(sheet: Sheet, certificate: ServedCertificate, *, with_stores: bool, words: tuple[str, str]) -> None:
    marks = sheet.marks
    level = _level(certificate)
    mark, style = (marks.holds, "green") if level is None else (marks.level[level], STYLES[level])
    if certificate.unreadable:
        sheet.line("  ", (mark, style), " a certificate that cannot be read")
        sheet.labelled(4, "served by", listed(certificate.places))
        sheet.labelled(4, "why", certificate.unreadable)
        return
    covered = listed(certificate.names) or f"{certificate.title} (no subjectAltName)"
    sheet.flow("  ", (covered, ""), _remark(certificate), (mark, style))
    if certificate.is_given:
        sheet.labelled(4, "given", "the given file is served: this is the certificate in it")
    if set(certificate.places) != set(certificate.names):
        sheet.labelled(4, "served by", listed(certificate.places))
    if certificate.twins and certificate.life is not None:
        others = ", ".join(each[:8] for each in certificate.twins)
        sheet.labelled(
            4, "issued", f"{certificate.life.not_before:%Y-%m-%d} by {certificate.issuer}; not the one with {others}"
        )
    _path(sheet, certificate.links, *words)
    if with_stores:
        sheet.labelled(4, "stores", _stores(marks, certificate.stores))
    if certificate.staple:
        sheet.labelled(4, "stapling", certificate.staple)
    if certificate.revoked:
        sheet.labelled(4, "status", certificate.status, STYLES[Level.BREAKS])
    _life(sheet, certificate)


def _short_places(sheet: Sheet, certificate: ServedCertificate) -> str:
    return listed([sheet.short(place) for place in certificate.places])


def _unsound(sheet: Sheet, certificate: ServedCertificate) -> None:
    """In a line or two: where it is served, the link that is missing or broken, what is left of it."""
    marks, level = sheet.marks, _level(certificate) or Level.NOTE
    head = f"certificate at {_short_places(sheet, certificate)}: "
    if certificate.unreadable:
        sheet.labelled(2, marks.level[level], f"{head}it cannot be read: {certificate.unreadable}", label_width=1)
        return
    path, broken = path_words(marks, certificate.links, "whole", "NOT SENT")
    words = [path] if broken or certificate.problem else []
    words += [certificate.status] if certificate.revoked else []
    words += [life_words(certificate.life)] if certificate.life is not None else []
    sheet.labelled(
        2, marks.level[level], head + "; ".join(words), label_width=1, stressed=broken,
        stress_style=STYLES[Level.BREAKS],
    )  # fmt: skip


def _level(certificate: ServedCertificate) -> Level | None:
    """How bad it is; None for one without a fault."""
    if certificate.problem or certificate.revoked or certificate.unreadable:
        return Level.BREAKS
    return _LIFE_LEVELS[certificate.life.state] if certificate.life is not None else None


def _until(life: LifeDrawn | None) -> str:
    return "" if life is None or life.is_endless else f" until {life.not_after:%Y-%m-%d}"


def _remark(certificate: ServedCertificate) -> str:
    good = f", {certificate.status}" if certificate.status and not certificate.revoked else ""
    return f"{certificate.key}, SHA-256 {certificate.sha256[:8]}{good}"


def _path(sheet: Sheet, links: tuple[Link, ...], whole: str, lacking: str) -> None:
    path, broken = path_words(sheet.marks, links, whole, lacking)
    sheet.labelled(4, "path", path, stressed=broken, stress_style=STYLES[Level.BREAKS])


def path_words(marks: Marks, links: tuple[Link, ...], whole: str, lacking: str) -> tuple[str, str]:
    """A path from leaf to root, and the part of it that is to be stressed.

    ``whole`` and ``lacking``: what a path without a fault is, and a link that is known from elsewhere.
    """
    words, broken = [], ""
    for position, link in enumerate(links):
        title = "leaf" if position == 0 else link.title
        match link.state:
            case LinkState.NOT_SENT:
                words.append(f"[{lacking}: {title}]")
            case LinkState.MISSING:
                words.append(f"[NOT SENT, NOT TO BE HAD: {title}]")
            case LinkState.UNTRUSTED:
                words.append(f"[NOT TRUSTED: {title}, {link.remark}]")
            case LinkState.BROKEN:
                words.append(f"[BROKEN at {title}: {link.remark}]")
            case LinkState.ANCHOR:
                words.append(f"{title} ({link.remark})")
            case LinkState.SENT:
                words.append(title)
        if link.state not in {LinkState.SENT, LinkState.ANCHOR}:
            broken = broken or words[-1]
    path = f" {marks.above} ".join(words)
    if links and not broken and len(links) > 1:
        path += f": {whole}"
    return path, broken


def _life(sheet: Sheet, certificate: ServedCertificate) -> None:
    life = certificate.life
    if life is None:
        return
    marks = sheet.marks
    full = round(life.passed * _BAR_CELLS)
    cells = [marks.passed] * full + [marks.left] * (_BAR_CELLS - full)
    cells.insert(min(round(life.renewal_at * _BAR_CELLS), _BAR_CELLS), marks.renewal)
    words = life_words(life)
    level = life_level(life)
    sheet.labelled(4, "life", "".join(cells) + " " + words, STYLES[level] if level else "")


def life_level(life: LifeDrawn) -> Level | None:
    """How bad it is where it stands in its life; None for a good one."""
    return _LIFE_LEVELS[life.state]


def life_words(life: LifeDrawn) -> str:
    """Days left, end and renewal."""
    match life.state:
        case LifeState.EXPIRED:
            words = f"expired {life.not_after:%Y-%m-%d}"
        case LifeState.NOT_YET_VALID:
            words = f"not valid before {life.not_before:%Y-%m-%d}"
        case _ if life.is_endless:
            words = f"since {life.not_before:%Y-%m-%d}, without an end"
        case _:
            left = f"{life.days_left} of {life.days} days" if life.days_left else life.left
            words = f"{left} left, until {life.not_after:%Y-%m-%d}"
            if life.state is LifeState.IN_DATE:
                words += f", renewal due {life.renewal:%Y-%m-%d}"
            elif life.state is LifeState.RENEWAL_DUE:
                words += f"; renewal was due {life.renewal:%Y-%m-%d}"
            else:
                words += f", {life.state.value}"
    return words
