"""Two real browsers, each asked in the way that it offers, and what they show in the words of a prediction."""

import contextlib
import json
import os
import socket
import subprocess
import time
import urllib.parse
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from selenium import webdriver
from selenium.common.exceptions import WebDriverException

from pewter.facts.browsers import Prediction

LOADED_SECONDS = 8.0

CHROMIUM_ERRORS = {
    "ERR_CERT_AUTHORITY_INVALID": Prediction.NOT_TRUSTED,
    "ERR_CERT_INVALID": Prediction.NOT_TRUSTED,
    "ERR_CERT_WEAK_KEY": Prediction.NOT_TRUSTED,
    "ERR_CERT_WEAK_SIGNATURE_ALGORITHM": Prediction.NOT_TRUSTED,
    "ERR_CERT_NAME_CONSTRAINT_VIOLATION": Prediction.NOT_TRUSTED,
    "ERR_CERT_COMMON_NAME_INVALID": Prediction.WRONG_NAME,
    "ERR_CERT_DATE_INVALID": Prediction.OUT_OF_DATE,
    "ERR_CERT_REVOKED": Prediction.REVOKED,
    "ERR_TOO_MANY_REDIRECTS": Prediction.CIRCLES,
    "ERR_HTTP_RESPONSE_CODE_FAILURE": Prediction.ERROR_PAGE,
}
"""Every other network error means that nothing came about."""

FIREFOX_ERRORS = {
    "SSL_ERROR_BAD_CERT_DOMAIN": Prediction.WRONG_NAME,
    "SEC_ERROR_EXPIRED_CERTIFICATE": Prediction.OUT_OF_DATE,
    "SEC_ERROR_EXPIRED_ISSUER_CERTIFICATE": Prediction.OUT_OF_DATE,
    "MOZILLA_PKIX_ERROR_NOT_YET_VALID_CERTIFICATE": Prediction.OUT_OF_DATE,
    "MOZILLA_PKIX_ERROR_NOT_YET_VALID_ISSUER_CERTIFICATE": Prediction.OUT_OF_DATE,
    "SEC_ERROR_REVOKED_CERTIFICATE": Prediction.REVOKED,
    "redirectLoop": Prediction.CIRCLES,
}
"""Every other certificate error is one of trust."""


@dataclass
class Met:
    """What one browser showed."""

    prediction: Prediction
    error: str = ""


class Chromium:
    title = "Chromium"

    def __init__(self, home: Path, roots: list[bytes]) -> None:
        store = home / ".pki" / "nssdb"
        store.mkdir(parents=True)
        trust(store, home, roots)
        os.environ["HOME"] = str(home)
        options = webdriver.ChromeOptions()
        options.binary_location = "/usr/bin/chromium"
        for argument in (
            "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
            "--disable-component-update", "--disable-sync", f"--user-data-dir={home}/profile",
            "--disable-features=HttpsUpgrades,HttpsFirstBalancedModeAutoEnable,HttpsFirstBalancedMode,LocalNetworkAccessChecks",
            "--autoplay-policy=no-user-gesture-required",
        ):  # fmt: skip
            options.add_argument(argument)
        options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
        self._driver = webdriver.Chrome(options=options, service=webdriver.ChromeService("/usr/bin/chromedriver"))
        self._driver.set_page_load_timeout(15)
        self.version = f"Chromium {self._driver.capabilities['browserVersion'].split('.')[0]}"

    def quit(self) -> None:
        self._driver.quit()

    def browse(self, url: str) -> Met:
        try:
            error = self._driver.execute_cdp_cmd("Page.navigate", {"url": url}).get("errorText", "")
        except WebDriverException as exc:
            error = str(exc.msg).partition("net::")[2].split("\n")[0] or "timeout"
        if error:
            name = error.removeprefix("net::")
            return Met(CHROMIUM_ERRORS.get(name, Prediction.CANNOT_CONNECT), name)
        met = shown(lambda script: self._driver.execute_script(script))
        if not self._driver.execute_script("return !!document.documentElement"):
            return Met(Prediction.CANNOT_CONNECT, "nothing is shown")
        return met

    def forget(self) -> None:
        """Begin anew with what was fetched."""
        self._driver.execute_cdp_cmd("Network.clearBrowserCache", {})

    def cookies(self, url: str) -> list[str]:
        self._driver.execute_cdp_cmd("Network.clearBrowserCookies", {})
        self.browse(url)
        kept = self._driver.execute_cdp_cmd("Network.getAllCookies", {})["cookies"]
        return sorted(
            described(each["name"], each["value"], each["domain"], each["path"], each["secure"], each["httpOnly"])
            for each in kept
        )

    def was_blocked(self, url: str) -> bool:
        """Browse, and say whether the console tells of a blocked part."""
        self._driver.get_log("browser")
        self.browse(url)
        time.sleep(0.3)
        return any("has been blocked" in entry["message"] for entry in self._driver.get_log("browser"))


class Firefox:
    """Driven over Marionette, its own protocol: a length, a colon, and JSON."""

    title = "Firefox"

    def __init__(self, home: Path, roots: list[bytes]) -> None:
        profile = home / "firefox"
        profile.mkdir(parents=True)
        trust(profile, home, roots)
        with socket.create_server(("127.0.0.1", 0)) as listener:
            port = listener.getsockname()[1]
        preferences = {
            "marionette.port": port,
            "dom.security.https_first": False,
            "dom.security.https_first_schemeless": False,
            "media.autoplay.default": 0,
            "media.autoplay.blocking_policy": 0,
            "security.OCSP.timeoutMilliseconds.soft": 5000,  # a responder that is late here is no finding
            "security.certerrors.mitm.priming.enabled": False,
            "app.update.enabled": False,
            "network.captive-portal-service.enabled": False,
            "network.connectivity-service.enabled": False,
            "browser.safebrowsing.malware.enabled": False,
            "browser.safebrowsing.phishing.enabled": False,
        }
        lines = (f"user_pref({json.dumps(name)}, {json.dumps(value)});\n" for name, value in preferences.items())
        (profile / "user.js").write_text("".join(lines))
        self._process = subprocess.Popen(
            ["firefox-esr", "--headless", "--marionette", "-remote-allow-system-access", "--no-remote", "--profile", str(profile)],
            env={**os.environ, "HOME": str(home)}, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        self._socket = connected(port)
        self._file = self._socket.makefile("rb")
        self._count = 0
        self._receive()
        session = self._do("WebDriver:NewSession", capabilities={"alwaysMatch": {"acceptInsecureCerts": False}})
        self._do("WebDriver:SetTimeouts", pageLoad=15000)
        self.version = f"Firefox {session['capabilities']['browserVersion'].split('.')[0]}"

    def quit(self) -> None:
        with contextlib.suppress(RuntimeError, OSError, ValueError):
            self._do("Marionette:Quit", flags=["eForceQuit"])
        self._process.wait(20)

    def _receive(self) -> list:
        length = b""
        while (octet := self._file.read(1)) != b":":
            length += octet
        return json.loads(self._file.read(int(length)))

    def _do(self, command: str, **parameters):
        self._count += 1
        message = json.dumps([0, self._count, command, parameters]).encode()
        self._socket.sendall(str(len(message)).encode() + b":" + message)
        _, _, error, result = self._receive()
        if error is not None:
            raise RuntimeError(f"{error['error']}: {error['message']}")
        return result

    def _run(self, script: str):
        return self._do("WebDriver:ExecuteScript", script=script, args=[])["value"]

    def _in_chrome(self, script: str):
        self._do("Marionette:SetContext", value="chrome")
        try:
            return self._run(script)
        finally:
            self._do("Marionette:SetContext", value="content")

    def browse(self, url: str) -> Met:
        with contextlib.suppress(RuntimeError):
            self._do("WebDriver:Navigate", url="about:blank")  # a move that leads nowhere leaves what was shown before
        try:
            self._do("WebDriver:Navigate", url=url)
        except RuntimeError as exc:
            words = str(exc)
            if words.startswith("timeout"):
                there = self._run("return document.documentURI")
                words = there if there.startswith("about:") and there != "about:blank" else words
            return self._error(words)
        return shown(self._run)

    def _certificate_error(self) -> Met:
        """By the error page's own word; where the page cannot tell it, it is no more than a warning."""
        try:
            code = self._run("return document.getFailedCertSecurityInfo().errorCodeString")
        except RuntimeError:
            code = ""  # as Firefox 140 for a certificate that it could not read
        return Met(FIREFOX_ERRORS.get(code, Prediction.NOT_TRUSTED), code)

    def _error(self, words: str) -> Met:
        if words.startswith("insecure certificate") or "about:certerror" in words:
            return self._certificate_error()
        page = urllib.parse.parse_qs(words.partition("?")[2].partition("\n")[0])
        name = page.get("e", [words[:60]])[0]
        if name == "nssBadCert":
            return self._certificate_error()
        if name == "nssFailure2":
            text = page.get("d", [""])[0]
            code = next((word for word in text.replace(".", " ").split() if "ERROR_" in word), text[-80:])
            failing = (
                self._run("try { return document.getNetErrorInfo().errorCodeString } catch (e) { return '' }") or code
            )
            if failing.startswith(("SEC_ERROR_OCSP", "MOZILLA_PKIX", "SEC_ERROR")):
                return Met(FIREFOX_ERRORS.get(failing, Prediction.NOT_TRUSTED), failing)
            return Met(Prediction.CANNOT_CONNECT, failing)
        if name in {"httpErrorPage", "serverError"}:
            return Met(Prediction.ERROR_PAGE, name)
        return Met(FIREFOX_ERRORS.get(name, Prediction.CANNOT_CONNECT), name)

    def forget(self) -> None:
        """Begin anew with what was fetched: a responder that was late is taken for dead for five minutes."""
        self._in_chrome("Cc['@mozilla.org/security/x509certdb;1'].getService(Ci.nsIX509CertDB).clearOCSPCache()")

    def cookies(self, url: str) -> list[str]:
        self._in_chrome("Services.cookies.removeAll()")
        self.browse(url)
        kept = self._in_chrome(
            "return Services.cookies.cookies.map(c => [c.name, c.value, c.host, c.path, c.isSecure, c.isHttpOnly])"
        )
        return sorted(described(*each) for each in kept)

    def was_blocked(self, url: str) -> bool:
        self.browse(url)
        time.sleep(0.4)
        return False  # the console is not at hand: what was not asked for counts


def described(name: str, value: str, domain: str, path: str, secure: bool, http_only: bool) -> str:
    return f"{name}={len(value)} octets {domain} {path[:20]} {secure} {http_only}"


def shown(run) -> Met:
    """What the loaded page is, after it has had the time to move on by itself."""
    deadline, last = time.monotonic() + LOADED_SECONDS, ""
    while time.monotonic() < deadline:
        time.sleep(0.12)
        with contextlib.suppress(WebDriverException, RuntimeError):
            there = run(  # nothing, in the moment between two documents
                "return document.readyState + ' ' + location.href + ' ' + !!document.querySelector('meta[http-equiv=refresh i], script')"
            )
            there = there or ""
            if there.startswith("complete") and there == last and not there.endswith("true"):
                break
            if (
                there.startswith("complete")
                and there.endswith("true")
                and time.monotonic() > deadline - LOADED_SECONDS + 1.5
            ):
                break
            last = there
    with contextlib.suppress(WebDriverException, RuntimeError):
        there = run("return document.documentURI") or ""
        if there.startswith(("chrome-error:", "about:")):
            words = run("return document.documentURI + ' ' + document.body.innerText")
            code = next(
                (
                    each
                    for each in words.replace(":", " ").split()
                    if each.startswith(("ERR_", "SEC_ERR", "SSL_ERR", "MOZILLA_"))
                ),
                "",
            )
            fallback = Prediction.OUT_OF_DATE if "expired" in words else Prediction.CANNOT_CONNECT
            return Met(CHROMIUM_ERRORS.get(code) or FIREFOX_ERRORS.get(code) or fallback, code or there[:80])
        status = run("return (performance.getEntriesByType('navigation')[0] || {}).responseStatus || 0")
        if (status or 0) >= 400:
            return Met(Prediction.ERROR_PAGE, str(status))
        return Met(Prediction.OPENS if there.startswith("https:") else Prediction.UNENCRYPTED)
    return Met(Prediction.UNKNOWN, "no page")


def trust(store: Path, home: Path, roots: list[bytes]) -> None:
    database = f"sql:{store}"
    subprocess.run(["certutil", "-d", database, "-N", "--empty-password"], check=True)
    for number, pem in enumerate(roots):
        file = home / f"root-{number}.pem"
        file.write_bytes(pem)
        subprocess.run(
            ["certutil", "-d", database, "-A", "-t", "C,,", "-n", f"root {number}", "-i", str(file)], check=True
        )


def connected(port: int) -> socket.socket:
    for _ in range(150):
        with contextlib.suppress(OSError):
            return socket.create_connection(("127.0.0.1", port), timeout=60)
        time.sleep(0.2)
    raise RuntimeError("the browser does not listen")


@contextlib.contextmanager
def both(home: Path, roots: list[bytes]) -> Iterator[tuple[Chromium, Firefox]]:
    chromium = Chromium(home / "c", roots)
    try:
        firefox = Firefox(home / "f", roots)
        try:
            yield chromium, firefox
        finally:
            firefox.quit()
    finally:
        chromium.quit()
