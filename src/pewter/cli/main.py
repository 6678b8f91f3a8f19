"""``pewter``: the commands and their options.

Only what the help needs is imported here; a command imports its own work when it runs.  An option is called as the
field of the request that it fills.
"""

import contextlib
import errno
import os
import re
import signal
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any, NoReturn

import click

from pewter.errors import OWN_FAULT, OutputError, PewterError, UsageError, own_fault_words
from pewter.report.formats import OF_COMPARISONS, OF_COURSES, OF_ENDINGS, OF_REVIEWS, OF_SURVEYS, Formats
from pewter.version import __version__

from .options import Command, Group, argument, request
from .saying import forget_output, say
from .signals import end_on_signals

PATH = click.Path(path_type=Path)


def _exit(status: int) -> NoReturn:
    raise click.exceptions.Exit(status)


def _show_version(context: click.Context, option: click.Parameter, wanted: bool) -> None:
    if wanted:
        print(f"pewter {__version__}")
        context.exit()


@click.group(
    cls=Group,
    no_args_is_help=True,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
)
@click.option(
    "--version",
    is_flag=True,
    is_eager=True,
    expose_value=False,
    callback=_show_version,
    help="Show the version and exit.",
)
def app() -> None:
    """Review a site's HTTPS setup from outside: every gap, with its evidence and its mend."""


def write_option(what: str, *formats: Formats) -> Callable[[Any], Any]:
    """``--write FILE``, of which the suffix says the format."""
    words = f"{what}: {' '.join(dict.fromkeys(suffix for each in formats for suffix in each.suffixes))}"
    return click.option("--write", "-w", multiple=True, type=PATH, metavar="FILE", help=words)


PATHS = click.option(
    "--path", "-p", "paths", multiple=True, metavar="PATH", help="A page to try: /login, or NAME/login."
)
ROUTE = click.option(
    "--route",
    "routes",
    multiple=True,
    metavar="NAME[:PORT]=ADDRESS[:PORT]",
    help="Connect there instead of asking the name service.",
)
RESOLVER = click.option(
    "--resolver",
    "resolvers",
    multiple=True,
    metavar="ADDRESS[:PORT]",
    help="A DNS resolver to ask; of several the first decides.",
)
TRUST = click.option(
    "--trust", multiple=True, type=PATH, metavar="FILE", help="Root certificates to trust beside the root stores."
)
TRUST_ONLY = click.option(
    "--trust-only",
    multiple=True,
    type=PATH,
    metavar="FILE",
    help="Root certificates to trust in place of the root stores.",
)
REVOCATION = click.option(
    "--revocation", is_flag=True, help="Ask the CAs (OCSP, CRL) whether the certificates are revoked."
)
SUPPOSE = click.option(
    "--suppose", multiple=True, metavar="hsts", help="Judge as if every name sent the recommended HSTS."
)
SKIP = click.option("--skip", multiple=True, metavar="AREA", help="Leave out these areas or rules.")
AS_OF = click.option("--as-of", metavar="DATE", help="Judge dates for this day, as 2027-03-01.")
FAIL_ON = click.option(
    "--fail-on",
    default="exposes",
    show_default=True,
    metavar="LEVEL",
    help="Exit with 1 at this level: breaks, exposes, weakens or note.",
)
FULL = click.option("--full", is_flag=True, help="Show every gap in full, not only what breaks or exposes.")
WRITE = write_option("Write it; the suffix says the format", OF_REVIEWS)
AS_IN_FILE = click.option(
    "--as-in-file", is_flag=True, help="Use private addresses, routes and roots that stand in the file of another."
)
SERVER_CONFIG = click.option(
    "--server-config",
    multiple=True,
    type=PATH,
    metavar="FILE",
    help="The server's own configuration, read only: lines are fitted to it; --write mend.diff is for patch.",
)
JSON = click.option("--json", is_flag=True, help="The review as JSON on standard output.")
FAIL_ON_SAVED = click.option(
    "--fail-on", metavar="LEVEL", help="Exit with 1 at this level; else as the review was made with."
)
SAVED = argument(
    "saved", required=True, metavar="REVIEW", type=PATH, help="A saved review: pewter review --write review.json"
)


@app.command(cls=Command)
@argument(
    "targets",
    nargs=-1,
    metavar="TARGET",
    help="Host names or URLs of one site; the first decides it. Without any, ./pewter.toml says what to review.",
)
@click.option("--canonical", metavar="URL", help="Where every way in should land, as https://www.x.example.")
@click.option("--also", multiple=True, metavar="NAME", help="One more name of the site.")
@PATHS
@ROUTE
@click.option(
    "--origin",
    "origins",
    multiple=True,
    metavar="[NAME=]ADDRESS[:PORT]",
    help="The server behind an edge service: looked at as the edge would.",
)
@RESOLVER
@TRUST
@TRUST_ONLY
@click.option(
    "--certificate",
    "certificates",
    multiple=True,
    type=PATH,
    metavar="FILE",
    help="Certificates as they lie on the server, to see whether they are loaded.",
)
@REVOCATION
@click.option(
    "--ct-logs",
    multiple=True,
    type=PATH,
    metavar="FILE",
    help="Public keys of CT logs (PEM), to verify signed timestamps.",
)
@click.option("--gentle", is_flag=True, help="One connection at a time to each address, for servers under strain.")
@click.option(
    "--har", multiple=True, type=PATH, metavar="FILE", help="Judge a HAR recording of a browser too, as behind a login."
)
@SUPPOSE
@click.option(
    "--server",
    default="",
    metavar="KIND",
    help="Whose mends to print: nginx, apache, haproxy, caddy, lighttpd, ...; else recognised.",
)
@click.option(
    "--only", multiple=True, metavar="AREA", help="Judge by these areas or rules alone, and ask only what they need."
)
@SKIP
@AS_OF
@click.option("--timeout", type=float, metavar="SECONDS", help="For the whole review (60).")
@FAIL_ON
@FULL
@SERVER_CONFIG
@WRITE
@JSON
def review(**options: Any) -> None:
    """Review one site and report its gaps."""
    from pewter.plan.request import LookRequest  # noqa: PLC0415
    from pewter.tasks.reviewing import ReviewRequest  # noqa: PLC0415

    from .ending import Output  # noqa: PLC0415
    from .review import run_review  # noqa: PLC0415

    made = request(ReviewRequest, options, look=request(LookRequest, options), folder=Path.cwd())
    _exit(run_review(made, request(Output, options)))


@app.command(cls=Command)
@argument(
    "files",
    nargs=-1,
    metavar="FILE",
    type=PATH,
    help="Certificates and keys: PEM, DER, PKCS #7, PKCS #12. The first with a server's certificate is judged.",
)
@click.option("--name", "-n", "names", multiple=True, metavar="NAME", help="A host name that has to be covered.")
@click.option("--live", metavar="HOST[:PORT]", help="Compare with what this host serves now.")
@ROUTE
@RESOLVER
@click.option("--fetch", is_flag=True, help="Fetch missing intermediates from the addresses in the certificates.")
@TRUST
@TRUST_ONLY
@click.option(
    "--passphrase-file", type=PATH, metavar="FILE", help="The passphrase of encrypted keys; else it is asked for."
)
@AS_OF
@FAIL_ON
@click.option("--write", "-w", type=PATH, metavar="FILE", help="Write the mended chain as PEM, leaf first.")
@click.option("--json", is_flag=True, help="The result as JSON on standard output.")
def bundle(**options: Any) -> None:
    """Check certificate, key and bundle files before they are installed; offline unless --live or --fetch is given."""
    from pewter.tasks.bundling import BundleRequest  # noqa: PLC0415

    from .bundle import run_bundle  # noqa: PLC0415

    _exit(run_bundle(request(BundleRequest, options), options["fail_on"], json=options["json"]))


@app.command(cls=Command)
@argument("saved", required=True, metavar="REVIEW", type=PATH, help="A saved review, or the folder of a survey.")
@click.option("--site", metavar="NAME", help="Of a survey's folder: whose review.")
@FAIL_ON_SAVED
@FULL
@SERVER_CONFIG
@WRITE
@JSON
def report(**options: Any) -> None:
    """Show a saved review, or write it in another format; offline.

    pewter report review.json --write review.md --write review.sarif
    """
    from .ending import Output  # noqa: PLC0415
    from .saved import run_report  # noqa: PLC0415

    _exit(run_report(options["saved"], options["site"], options["fail_on"], request(Output, options)))


@app.command(cls=Command)
@SAVED
@AS_OF
@click.option("--site", type=PATH, metavar="FILE", help="By the expectations and accepted gaps of this pewter.toml.")
@TRUST
@SUPPOSE
@FAIL_ON_SAVED
@FULL
@SERVER_CONFIG
@WRITE
@JSON
def judge(**options: Any) -> None:
    """Judge a saved review again, with other expectations or for another date; offline.

    pewter judge review.json --as-of 2027-03-01
    """
    from pewter.tasks.saved import JudgeRequest  # noqa: PLC0415

    from .ending import Output  # noqa: PLC0415
    from .saved import run_judge  # noqa: PLC0415

    _exit(
        run_judge(request(JudgeRequest, options, review=options["saved"]), options["fail_on"], request(Output, options))
    )


@app.command(cls=Command)
@SAVED
@click.option("--wait", metavar="DURATION", help='Go on until the open gaps are closed, as long as "2 days".')
@click.option("--every", metavar="DURATION", help='How often, as "5 minutes" (1 minute; at least 30 seconds).')
@click.option("--rule", "rules", multiple=True, metavar="RULE", help="Only gaps of these rules.")
@click.option("--where", "wheres", multiple=True, metavar="PLACE", help="Only gaps at these places.")
@click.option("--full", is_flag=True, help="Show the whole report too.")
@AS_IN_FILE
@FAIL_ON_SAVED
@SERVER_CONFIG
@WRITE
@JSON
def recheck(**options: Any) -> None:
    """Take the same look again, show what changed, and wait until it is mended.

    pewter recheck review.json --rule chain/incomplete --wait "2 hours"
    """
    from pewter.tasks.rechecking import RecheckRequest  # noqa: PLC0415

    from .ending import Output  # noqa: PLC0415
    from .recheck import run_recheck  # noqa: PLC0415

    _exit(run_recheck(request(RecheckRequest, options, review=options["saved"]), request(Output, options)))


COMPARED = (
    "Two saved reviews of a site; or a folder of them, or more than two, for when each gap opened and closed; "
    "or the folder of a survey."
)


@app.command(cls=Command)
@argument("reviews", nargs=-1, required=True, metavar="OLD [NEW ...]", type=PATH, help=COMPARED)
@write_option("Write what changed", OF_COMPARISONS, OF_COURSES)
@click.option("--json", is_flag=True, help="What changed as JSON on standard output.")
def compare(**options: Any) -> None:
    """What closed, what opened, what stayed from one saved review to the next; offline.

    pewter compare review-as-found.json review-mended.json

    pewter compare reviews-of-this-year
    """
    from .saved import run_compare  # noqa: PLC0415

    _exit(run_compare(**options))


@app.command(cls=Command)
@argument("targets", nargs=-1, required=True, metavar="TARGET", help="The names of one site; the first decides it.")
@PATHS
@ROUTE
@RESOLVER
@TRUST
@click.option("--force", is_flag=True, help="Overwrite a pewter.toml that is there.")
def init(**options: Any) -> None:
    """Take a look and write a starter pewter.toml from what is seen.

    pewter init www.x.example
    """
    from pewter.plan.request import LookRequest  # noqa: PLC0415
    from pewter.tasks.starting import InitRequest  # noqa: PLC0415

    from .init import run_init  # noqa: PLC0415

    made = request(InitRequest, options, look=request(LookRequest, options), folder=Path.cwd())
    _exit(run_init(made))


@app.command(cls=Command)
@argument(
    "sources",
    nargs=-1,
    required=True,
    metavar="REVIEW",
    type=PATH,
    help="Saved reviews, certificate files, and folders of them.",
)
@AS_OF
@write_option("Write the list, or a chart", OF_ENDINGS)
def expiry(**options: Any) -> None:
    """What runs out when: certificates and their renewal, intermediates, zone signatures, accepted gaps; offline.

    pewter expiry reviews/ --write ends.ics
    """
    from pewter.tasks.expiring import ExpiryRequest  # noqa: PLC0415

    from .expiry import run_expiry  # noqa: PLC0415

    _exit(run_expiry(request(ExpiryRequest, options), options["write"]))


@app.command(cls=Command)
@argument(
    "sites",
    required=False,
    metavar="LIST",
    type=PATH,
    help="Sites, one a line (several names of one on a line), or CSV with a head line; - for standard input.",
)
@click.option("--into", type=PATH, metavar="FOLDER", help="Where it is kept; the same command goes on where it was.")
@click.option("--show", type=PATH, metavar="FOLDER", help="Show what a survey found.")
@click.option(
    "--again", metavar="[WHICH]", help='Look anew at all sites, or those that are "unreachable" or "older-than 7d".'
)
@click.option("--brief", is_flag=True, help="Four hellos, the ways in and the certificates alone.")
@ROUTE
@RESOLVER
@TRUST
@TRUST_ONLY
@click.option("--only", multiple=True, metavar="AREA", help="Judge by these areas or rules alone.")
@SKIP
@REVOCATION
@click.option("--gentle", is_flag=True, help="One connection at a time to each address.")
@click.option("--timeout", type=float, metavar="SECONDS", help="For one site (60; 20 with --brief).")
@AS_IN_FILE
@click.option("--workers", type=int, metavar="N", help="Worker processes (one a core).")
@click.option("--cluster", metavar="ADDRESS", help="Hand batches to this Dask scheduler instead.")
@click.option(
    "--cluster-tls",
    multiple=True,
    type=PATH,
    metavar="FILE",
    help="For it, in this order: the CA, the certificate, the key (PEM).",
)
@click.option("--fail-on", metavar="LEVEL", help="Exit with 1 where a site has a gap at this level.")
@write_option("Write the table, or a page", OF_SURVEYS)
def survey(**options: Any) -> None:
    """Review many sites; resumable, one table of them all.

    pewter survey sites.txt --into survey --brief --write sites.csv
    """
    from pewter.plan.request import LookRequest  # noqa: PLC0415
    from pewter.tasks.surveying import SurveyRequest  # noqa: PLC0415

    from .survey import run_survey  # noqa: PLC0415

    show, sites, into = options["show"], options["sites"], options["into"]
    if show is not None and (sites is not None or into is not None):
        raise UsageError("--show tells of a folder by itself: leave the list and --into out.")
    made = None
    if sites is not None and into is not None:
        made = request(SurveyRequest, options, list=sites, look=request(LookRequest, options))
    _exit(run_survey(made, show, options["fail_on"], options["write"]))


@app.command(cls=Command)
@click.option(
    "--into",
    type=PATH,
    default=Path("pewter-demo"),
    show_default=True,
    metavar="FOLDER",
    help="Where pewter.toml and the review are written.",
)
@click.option("--stage", default="as-found", show_default=True, metavar="STAGE", help="as-found or mended.")
@click.option("--stay", is_flag=True, help="Leave the simulated site running until Ctrl-C.")
@click.option("--crowd", type=int, metavar="N", help="Start so many small sites instead, and survey them.")
def demo(**options: Any) -> None:
    """Review a simulated site as an example."""
    from .demo import run_crowd, run_demo  # noqa: PLC0415

    into, stay = options["into"], options["stay"]
    if options["crowd"] is not None:
        _exit(run_crowd(into, options["crowd"], stay=stay))
    _exit(run_demo(into, options["stage"], stay=stay))


@app.command(cls=Command)
@click.option("--expectations", is_flag=True, help="List the expectations instead, with defaults and sources.")
def rules(**options: Any) -> None:
    """List the catalogue of rules."""
    from .catalogue import list_expectations, list_rules  # noqa: PLC0415

    if options["expectations"]:
        list_expectations()
    else:
        list_rules()


@app.command(cls=Command)
@argument("rule", required=False, metavar="[RULE]", help="As in chain/incomplete.")
@click.option(
    "--from",
    "review",
    type=PATH,
    metavar="REVIEW",
    help="All lines of a saved review instead: block by block, each once.",
)
@SERVER_CONFIG
@click.option("--write", "-w", multiple=True, type=PATH, metavar="FILE", help="With --server-config: mend.diff.")
def explain(**options: Any) -> None:
    """Explain a rule and its mend on each server, or put all mends of a review together."""
    from .catalogue import explain_review, explain_rule  # noqa: PLC0415
    from .ending import Output  # noqa: PLC0415

    rule, review = options["rule"], options["review"]
    if (rule is None) == (review is None):
        raise UsageError("Name a rule, as in 'pewter explain chain/incomplete', or a review: --from REVIEW.")
    if review is None and (options["server_config"] or options["write"]):
        raise UsageError("--server-config and --write go with --from REVIEW.")
    if review is not None:
        _exit(explain_review(review, request(Output, options)))
    else:
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
    except click.exceptions.Exit as exc:
        status = exc.exit_code
    except (click.Abort, KeyboardInterrupt):
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
        if status is None and (words := _of_the_machine(exc)):
            say(words)
            status = UsageError.exit_status
        elif (
            status is None
            and isinstance(exc, OSError)
            and exc.errno in {errno.ENOSPC, errno.EBADF, errno.EIO, errno.EFBIG}
        ):
            # The help and the version are printed by click; files have errors of their own.
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


def _of_the_machine(exc: Exception) -> str:
    """What is otherwise than usual around the program; empty where it is none of that."""
    if isinstance(exc, OSError) and exc.errno in {errno.EMFILE, errno.ENFILE}:
        return "This system lets Pewter open no further file or connection (see ulimit -n)."
    if isinstance(exc, MemoryError):
        return "This system gives Pewter no more memory."
    try:
        Path.cwd()
    except OSError as error:
        return f"The current folder cannot be used any more: {error.strerror}. Change to another one."
    return ""


def _wrong_usage(exc: Exception) -> int | None:
    """Click's word on the command line, escaped: it quotes what was typed.  None for any other error."""
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
