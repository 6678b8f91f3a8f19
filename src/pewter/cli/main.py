"""``pewter``: the commands and their options.

Only what the help needs is imported here; a command imports its own work when it runs.
"""

import contextlib
import errno
import os
import re
import signal
import sys
from pathlib import Path
from typing import Annotated

import typer

from pewter.errors import OWN_FAULT, OutputError, PewterError, UsageError, own_fault_words
from pewter.report.formats import OF_COMPARISONS, OF_ENDINGS, OF_REVIEWS, OF_SURVEYS
from pewter.version import __version__

from .options import request
from .saying import forget_output, say
from .signals import end_on_signals

app = typer.Typer(
    name="pewter",
    help="Review a site's HTTPS setup from outside: every gap, with its evidence and its mend.",
    no_args_is_help=True,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
)


def _show_version(wanted: bool) -> None:
    if wanted:
        print(f"pewter {__version__}")
        raise typer.Exit


@app.callback()
def main(
    version: Annotated[
        bool, typer.Option("--version", callback=_show_version, is_eager=True, help="Show the version and exit.")
    ] = False,
) -> None:
    """Review a site's HTTPS setup from outside: every gap, with its evidence and its mend."""


Targets = Annotated[
    list[str] | None,
    typer.Argument(
        metavar="TARGET",
        help="Host names or URLs of one site; the first decides it. Without any, ./pewter.toml says what to review.",
        show_default=False,
    ),
]
FailOn = Annotated[
    str, typer.Option("--fail-on", metavar="LEVEL", help="Exit with 1 at this level: breaks, exposes, weakens or note.")
]

Routes = Annotated[
    list[str] | None,
    typer.Option(
        "--route", metavar="NAME[:PORT]=ADDRESS[:PORT]", help="Connect there instead of asking the name service."
    ),
]
Resolvers = Annotated[
    list[str] | None,
    typer.Option("--resolver", metavar="ADDRESS[:PORT]", help="A DNS resolver to ask; of several the first decides."),
]
Trust = Annotated[
    list[Path] | None, typer.Option(metavar="FILE", help="Root certificates to trust beside the root stores.")
]
TrustOnly = Annotated[
    list[Path] | None, typer.Option(metavar="FILE", help="Root certificates to trust in place of the root stores.")
]
Write = Annotated[
    list[Path] | None,
    typer.Option(
        "--write",
        "-w",
        metavar="FILE",
        help=f"Write it; the suffix says the format: {' '.join(OF_REVIEWS.suffixes)}",
    ),
]
Paths = Annotated[
    list[str] | None, typer.Option("--path", "-p", metavar="PATH", help="A page to try: /login, or NAME/login.")
]
Full = Annotated[bool, typer.Option("--full", help="Show every gap in full, not only what breaks or exposes.")]
Json = Annotated[bool, typer.Option("--json", help="The review as JSON on standard output.")]
AsOf = Annotated[str | None, typer.Option(metavar="DATE", help="Judge dates for this day, as 2027-03-01.")]


Saved = Annotated[Path, typer.Argument(metavar="REVIEW", help="A saved review: pewter review --write review.json")]
FailOnSaved = Annotated[
    str | None,
    typer.Option("--fail-on", metavar="LEVEL", help="Exit with 1 at this level; else as the review was made with."),
]


@app.command()
def review(
    targets: Targets = None,
    canonical: Annotated[
        str | None, typer.Option(metavar="URL", help="Where every way in should land, as https://www.x.example.")
    ] = None,
    also: Annotated[list[str] | None, typer.Option(metavar="NAME", help="One more name of the site.")] = None,
    paths: Paths = None,
    routes: Routes = None,
    origins: Annotated[
        list[str] | None,
        typer.Option(
            "--origin",
            metavar="[NAME=]ADDRESS[:PORT]",
            help="The server behind an edge service: looked at as the edge would.",
        ),
    ] = None,
    resolvers: Resolvers = None,
    trust: Trust = None,
    trust_only: TrustOnly = None,
    certificates: Annotated[
        list[Path] | None,
        typer.Option(
            "--certificate",
            metavar="FILE",
            help="Certificates as they lie on the server, to see whether they are loaded.",
        ),
    ] = None,
    revocation: Annotated[
        bool, typer.Option("--revocation", help="Ask the CAs (OCSP, CRL) whether the certificates are revoked.")
    ] = False,
    ct_logs: Annotated[
        list[Path] | None,
        typer.Option(metavar="FILE", help="Public keys of CT logs (PEM), to verify signed timestamps."),
    ] = None,
    gentle: Annotated[
        bool,
        typer.Option("--gentle", help="One connection at a time to each address, for servers under strain."),
    ] = False,
    har: Annotated[
        list[Path] | None,
        typer.Option(metavar="FILE", help="Judge a HAR recording of a browser too, as behind a login."),
    ] = None,
    suppose: Annotated[
        list[str] | None, typer.Option(metavar="hsts", help="Judge as if every name sent the recommended HSTS.")
    ] = None,
    server: Annotated[
        str,
        typer.Option(
            metavar="KIND", help="Whose mends to print: nginx, apache, haproxy, caddy, lighttpd, ...; else recognised."
        ),
    ] = "",
    only: Annotated[
        list[str] | None,
        typer.Option(metavar="AREA", help="Judge by these areas or rules alone, and ask only what they need."),
    ] = None,
    skip: Annotated[list[str] | None, typer.Option(metavar="AREA", help="Leave out these areas or rules.")] = None,
    as_of: AsOf = None,
    timeout: Annotated[float | None, typer.Option(metavar="SECONDS", help="For the whole review (60).")] = None,
    fail_on: FailOn = "exposes",
    full: Full = False,
    write: Write = None,
    json: Json = False,
) -> None:
    """Review one site and report its gaps."""
    from pewter.plan.request import LookRequest  # noqa: PLC0415
    from pewter.tasks.reviewing import ReviewRequest  # noqa: PLC0415

    from .ending import Output  # noqa: PLC0415
    from .review import run_review  # noqa: PLC0415

    options = locals()
    made = request(ReviewRequest, options, look=request(LookRequest, options), folder=Path.cwd())
    raise typer.Exit(run_review(made, request(Output, options)))


@app.command()
def bundle(
    files: Annotated[
        list[Path] | None,
        typer.Argument(
            metavar="FILE",
            help="Certificates and keys: PEM, DER, PKCS #7, PKCS #12. The first with a server's certificate is judged.",
            show_default=False,
        ),
    ] = None,
    names: Annotated[
        list[str] | None, typer.Option("--name", "-n", metavar="NAME", help="A host name that has to be covered.")
    ] = None,
    live: Annotated[
        str | None, typer.Option(metavar="HOST[:PORT]", help="Compare with what this host serves now.")
    ] = None,
    routes: Routes = None,
    resolvers: Resolvers = None,
    fetch: Annotated[
        bool, typer.Option("--fetch", help="Fetch missing intermediates from the addresses in the certificates.")
    ] = False,
    trust: Trust = None,
    trust_only: TrustOnly = None,
    passphrase_file: Annotated[
        Path | None, typer.Option(metavar="FILE", help="The passphrase of encrypted keys; else it is asked for.")
    ] = None,
    as_of: AsOf = None,
    fail_on: FailOn = "exposes",
    write: Annotated[
        Path | None, typer.Option("--write", "-w", metavar="FILE", help="Write the mended chain as PEM, leaf first.")
    ] = None,
    json: Annotated[bool, typer.Option("--json", help="The result as JSON on standard output.")] = False,
) -> None:
    """Check certificate, key and bundle files before they are installed; offline unless --live or --fetch is given."""
    from pewter.tasks.bundling import BundleRequest  # noqa: PLC0415

    from .bundle import run_bundle  # noqa: PLC0415

    raise typer.Exit(run_bundle(request(BundleRequest, locals()), fail_on, json=json))


@app.command()
def report(
    saved: Annotated[Path, typer.Argument(metavar="REVIEW", help="A saved review, or the folder of a survey.")],
    site: Annotated[str | None, typer.Option(metavar="NAME", help="Of a survey's folder: whose review.")] = None,
    fail_on: FailOnSaved = None,
    full: Full = False,
    write: Write = None,
    json: Json = False,
) -> None:
    """Show a saved review, or write it in another format; offline.

    pewter report review.json --write review.md --write review.sarif
    """
    from .ending import Output  # noqa: PLC0415
    from .saved import run_report  # noqa: PLC0415

    raise typer.Exit(run_report(saved, site, fail_on, request(Output, locals())))


@app.command()
def judge(
    saved: Saved,
    as_of: AsOf = None,
    site: Annotated[
        Path | None, typer.Option(metavar="FILE", help="By the expectations and accepted gaps of this pewter.toml.")
    ] = None,
    trust: Trust = None,
    suppose: Annotated[
        list[str] | None, typer.Option(metavar="hsts", help="Judge as if every name sent the recommended HSTS.")
    ] = None,
    fail_on: FailOnSaved = None,
    full: Full = False,
    write: Write = None,
    json: Json = False,
) -> None:
    """Judge a saved review again, with other expectations or for another date; offline.

    pewter judge review.json --as-of 2027-03-01
    """
    from pewter.tasks.saved import JudgeRequest  # noqa: PLC0415

    from .ending import Output  # noqa: PLC0415
    from .saved import run_judge  # noqa: PLC0415

    options = locals()
    raise typer.Exit(run_judge(request(JudgeRequest, options, review=saved), fail_on, request(Output, options)))


@app.command()
def recheck(
    saved: Saved,
    wait: Annotated[
        str | None,
        typer.Option(metavar="DURATION", help='Go on until the open gaps are closed, as long as "2 days".'),
    ] = None,
    every: Annotated[
        str | None, typer.Option(metavar="DURATION", help='How often, as "5 minutes" (1 minute; at least 30 seconds).')
    ] = None,
    rules: Annotated[list[str] | None, typer.Option("--rule", metavar="RULE", help="Only gaps of these rules.")] = None,
    wheres: Annotated[
        list[str] | None, typer.Option("--where", metavar="PLACE", help="Only gaps at these places.")
    ] = None,
    full: Annotated[bool, typer.Option("--full", help="Show the whole report too.")] = False,
    fail_on: FailOnSaved = None,
    write: Write = None,
    json: Json = False,
) -> None:
    """Take the same look again, show what changed, and wait until it is mended.

    pewter recheck review.json --rule chain/incomplete --wait "2 hours"
    """
    from pewter.tasks.rechecking import RecheckRequest  # noqa: PLC0415

    from .ending import Output  # noqa: PLC0415
    from .recheck import run_recheck  # noqa: PLC0415

    options = locals()
    raise typer.Exit(run_recheck(request(RecheckRequest, options, review=saved), request(Output, options)))


@app.command()
def compare(
    old: Annotated[Path, typer.Argument(metavar="OLD", help="A saved review, or the folder of a survey alone.")],
    new: Annotated[
        Path | None, typer.Argument(metavar="NEW", help="A later one of the same site.", show_default=False)
    ] = None,
    write: Annotated[
        list[Path] | None,
        typer.Option("--write", "-w", metavar="FILE", help=f"Write what changed: {' '.join(OF_COMPARISONS.suffixes)}"),
    ] = None,
    json: Annotated[bool, typer.Option("--json", help="What changed as JSON on standard output.")] = False,
) -> None:
    """What closed, what opened, what stayed from one saved review to the next; offline.

    pewter compare review-as-found.json review-mended.json
    """
    from .saved import run_compare  # noqa: PLC0415

    raise typer.Exit(run_compare(old, new, tuple(write or ()), json=json))


@app.command()
def init(
    targets: Annotated[
        list[str], typer.Argument(metavar="TARGET", help="The names of one site; the first decides it.")
    ],
    paths: Paths = None,
    routes: Routes = None,
    resolvers: Resolvers = None,
    trust: Trust = None,
    force: Annotated[bool, typer.Option("--force", help="Overwrite a pewter.toml that is there.")] = False,
) -> None:
    """Take a look and write a starter pewter.toml from what is seen.

    pewter init www.x.example
    """
    from pewter.plan.request import LookRequest  # noqa: PLC0415
    from pewter.tasks.starting import InitRequest  # noqa: PLC0415

    from .init import run_init  # noqa: PLC0415

    options = locals()
    made = request(InitRequest, options, look=request(LookRequest, options), folder=Path.cwd())
    raise typer.Exit(run_init(made))


@app.command()
def expiry(
    sources: Annotated[
        list[Path],
        typer.Argument(metavar="REVIEW", help="Saved reviews, certificate files, and folders of them."),
    ],
    as_of: AsOf = None,
    write: Annotated[
        list[Path] | None,
        typer.Option(
            "--write", "-w", metavar="FILE", help=f"Write the list, or a chart: {' '.join(OF_ENDINGS.suffixes)}"
        ),
    ] = None,
) -> None:
    """What runs out when: certificates and their renewal, intermediates, zone signatures, accepted gaps; offline.

    pewter expiry reviews/ --write ends.ics
    """
    from pewter.tasks.expiring import ExpiryRequest  # noqa: PLC0415

    from .expiry import run_expiry  # noqa: PLC0415

    raise typer.Exit(run_expiry(request(ExpiryRequest, locals()), tuple(write or ())))


@app.command()
def survey(
    sites: Annotated[
        Path | None,
        typer.Argument(
            metavar="LIST",
            help="Sites, one a line (several names of one on a line), or CSV with a head line; - for standard input.",
            show_default=False,
        ),
    ] = None,
    into: Annotated[
        Path | None, typer.Option(metavar="FOLDER", help="Where it is kept; the same command goes on where it was.")
    ] = None,
    show: Annotated[Path | None, typer.Option(metavar="FOLDER", help="Show what a survey found.")] = None,
    again: Annotated[
        str | None,
        typer.Option(
            metavar="[WHICH]", help='Look anew at all sites, or those that are "unreachable" or "older-than 7d".'
        ),
    ] = None,
    brief: Annotated[
        bool, typer.Option("--brief", help="Four hellos, the ways in and the certificates alone.")
    ] = False,
    routes: Routes = None,
    resolvers: Resolvers = None,
    trust: Trust = None,
    trust_only: TrustOnly = None,
    only: Annotated[list[str] | None, typer.Option(metavar="AREA", help="Judge by these areas or rules alone.")] = None,
    skip: Annotated[list[str] | None, typer.Option(metavar="AREA", help="Leave out these areas or rules.")] = None,
    revocation: Annotated[
        bool, typer.Option("--revocation", help="Ask the CAs (OCSP, CRL) whether the certificates are revoked.")
    ] = False,
    gentle: Annotated[bool, typer.Option("--gentle", help="One connection at a time to each address.")] = False,
    timeout: Annotated[
        float | None, typer.Option(metavar="SECONDS", help="For one site (60; 20 with --brief).")
    ] = None,
    workers: Annotated[int | None, typer.Option(metavar="N", help="Worker processes (one a core).")] = None,
    cluster: Annotated[
        str | None, typer.Option(metavar="ADDRESS", help="Hand batches to this Dask scheduler instead.")
    ] = None,
    cluster_tls: Annotated[
        list[Path] | None,
        typer.Option(metavar="FILE", help="For it, in this order: the CA, the certificate, the key (PEM)."),
    ] = None,
    fail_on: Annotated[
        str | None, typer.Option("--fail-on", metavar="LEVEL", help="Exit with 1 where a site has a gap at this level.")
    ] = None,
    write: Annotated[
        list[Path] | None,
        typer.Option(
            "--write", "-w", metavar="FILE", help=f"Write the table, or a page: {' '.join(OF_SURVEYS.suffixes)}"
        ),
    ] = None,
) -> None:
    """Review many sites; resumable, one table of them all.

    pewter survey sites.txt --into survey --brief --write sites.csv
    """
    from pewter.plan.request import LookRequest  # noqa: PLC0415
    from pewter.tasks.surveying import SurveyRequest  # noqa: PLC0415

    from .survey import run_survey  # noqa: PLC0415

    options = locals()
    if show is not None and (sites is not None or into is not None):
        raise UsageError("--show tells of a folder by itself: leave the list and --into out.")
    made = None
    if sites is not None and into is not None:
        made = request(SurveyRequest, options, list=sites, look=request(LookRequest, options))
    raise typer.Exit(run_survey(made, show, fail_on, tuple(write or ())))


@app.command()
def demo(
    into: Annotated[Path, typer.Option(metavar="FOLDER", help="Where pewter.toml and the review are written.")] = Path(
        "pewter-demo"
    ),
    stage: Annotated[str, typer.Option(metavar="STAGE", help="as-found or mended.")] = "as-found",
    stay: Annotated[bool, typer.Option("--stay", help="Leave the simulated site running until Ctrl-C.")] = False,
    crowd: Annotated[
        int | None, typer.Option(metavar="N", help="Start so many small sites instead, and survey them.")
    ] = None,
) -> None:
    """Review a simulated site as an example."""
    from .demo import run_crowd, run_demo  # noqa: PLC0415

    if crowd is not None:
        raise typer.Exit(run_crowd(into, crowd, stay=stay))
    raise typer.Exit(run_demo(into, stage, stay=stay))


@app.command()
def rules(
    expectations: Annotated[
        bool, typer.Option("--expectations", help="List the expectations instead, with defaults and sources.")
    ] = False,
) -> None:
    """List the catalogue of rules."""
    from .catalogue import list_expectations, list_rules  # noqa: PLC0415

    if expectations:
        list_expectations()
    else:
        list_rules()


@app.command()
def explain(rule: Annotated[str, typer.Argument(metavar="RULE", help="As in chain/incomplete.")]) -> None:
    """Explain a rule and its mend on each server."""
    from .catalogue import explain_rule  # noqa: PLC0415

    explain_rule(rule)


def with_defaults(arguments: list[str]) -> list[str]:
    """``--wait`` and ``--again`` may stand alone: then they mean two days, and all sites."""
    found: list[str] = []
    rest = list(arguments)
    while rest:
        found.append(rest.pop(0))
        following = rest[0] if rest else ""
        if found[-1] == "--":
            return [*found, *rest]
        if found[-1] == "--wait":
            found.append(_wait_among(rest))
        elif found[-1] == "--again":
            if following == "older-than" and len(rest) > 1:
                found.append(f"{rest.pop(0)} {rest.pop(0)}")
            elif following not in {"all", "unreachable"} and not following.startswith("older-than"):
                found.append("all")
    return found


_UNITS_OF_TIME = re.compile(r"(second|minute|hour|day)s?")


def _wait_among(rest: list[str]) -> str:
    """The duration behind ``--wait``, taken out of what follows: two days where none does.

    A word that is neither an option nor a file is meant for a duration, and is told if it is none.
    """
    following = rest[0] if rest else ""
    if following[:1].isdigit():
        first = rest.pop(0)
        return f"{first} {rest.pop(0)}" if first.isdigit() and rest and _UNITS_OF_TIME.fullmatch(rest[0]) else first
    is_a_word = following and not following.startswith("-") and not re.search(r"[./\\]", following)
    return rest.pop(0) if is_a_word and not Path(following).exists() else "2 days"


def run() -> None:
    """The console script: errors of ours end in a sentence and an exit status, never in a traceback."""
    _keep_streams()
    end_on_signals()
    sys.argv[1:] = with_defaults(sys.argv[1:])
    try:
        status = app(standalone_mode=False)
        _finish_output()
    except typer.Exit as exc:
        status = exc.exit_code
    except (typer.Abort, KeyboardInterrupt):
        say("interrupted")
        status = 130
    except PewterError as exc:
        say(str(exc))
        status = exc.exit_status
    except BrokenPipeError:
        # The reader (head, less) has seen enough; Python would complain once more at exit.
        forget_output()
        status = 0
    except Exception as exc:
        status = _wrong_usage(exc)
        if (
            status is None
            and isinstance(exc, OSError)
            and exc.errno in {errno.ENOSPC, errno.EBADF, errno.EIO, errno.EFBIG}
        ):
            # The help and the version are printed by Typer; files have errors of their own.
            forget_output()
            say(f"Standard output cannot be written: {exc.strerror}.")
            status = OutputError.exit_status
        elif status is None:
            # Python's own exit status of a traceback is 1, which here means that gaps were found.
            say(own_fault_words(f"{type(exc).__name__}: {exc}"[:300]))
            status = OWN_FAULT
    with contextlib.suppress(ValueError):  # a second Ctrl-C finds it on its way out already
        signal.signal(signal.SIGINT, signal.SIG_IGN)
    sys.exit(status if isinstance(status, int) else 0)


def _wrong_usage(exc: Exception) -> int | None:
    """Typer's word on the command line, escaped: it quotes what was typed.  None for any other error."""
    words, context = getattr(exc, "format_message", None), getattr(exc, "ctx", None)
    if words is None:
        return None
    if type(exc).__name__ == "NoArgsIsHelpError":  # no error: the help is what is asked for
        print(context.get_help() if context is not None else words())
        return UsageError.exit_status
    say(words())
    if context is not None:
        say(f"Type {context.command_path} --help for what is allowed.")
    return UsageError.exit_status


def _finish_output() -> None:
    """What is still to be printed is printed here, where an error can be told."""
    if sys.stdout is not None:
        try:
            sys.stdout.flush()
        except BrokenPipeError:
            raise
        except OSError as exc:
            forget_output()
            raise OutputError(f"Standard output cannot be written: {exc.strerror}.") from exc


def _keep_streams() -> None:
    """A standard stream that is closed stays nobody's: no file or connection may get its number."""
    for number in range(3):
        try:
            os.fstat(number)
        except OSError:
            os.open(os.devnull, os.O_RDWR)
