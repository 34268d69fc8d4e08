"""Carries requests to a device and logs in, each way at most once.

A request first goes without a login. Where the device answers with an HTTP challenge, that is answered (RFC 7616, 7617);
where it answers with a fault that says "not authorized", the user name token of WS-Security is used, made for the
device's own clock. A login that was refused is not sent again.
"""

from __future__ import annotations

import datetime
import email.utils
import re
import secrets
import time
from collections.abc import Callable, Mapping
from urllib.parse import urlsplit

from direkt.described.errors import BadAnswer, ChangeRefused, DeviceLoginRefused, NotOffered
from direkt.described.http import HttpAnswer, HttpInterface, Login
from direkt.device.onvif.build import OnvifService, boolean, element
from direkt.device.state import DeviceClock
from direkt.errors import Malformed
from direkt.protocol import httpauth, refusals, soap, tree
from direkt.protocol.soap import SoapFault
from direkt.protocol.tree import Element
from direkt.secret import Secret

PATH = "/onvif/device_service"  # ONVIF Core, 5.10: where the device service is
_NOT_ADMITTED = {"NotAuthorized", "FailedAuthentication", "FailedCheck", "InvalidSecurity", "InvalidSecurityToken"}
_NOT_THERE = {"ActionNotSupported", "OptionalActionNotImplemented", "NoSuchService", "NotSupported"}
# how devices say that nobody has set a password yet; the standard has no word for it
FIRST_PASSWORD = re.compile(
    r"(initial|first|default|factory|no) *(admin|user|password|account|state)|password (must|has to|not)|activat",
    re.IGNORECASE,
)
_EMPTY_WORDS = {"", "not authorized", "sender not authorized", "unauthorized", "the action requested requires authorization and the sender is not authorized", "authority failure"}  # fmt: skip
WRONG_CLOCK = 5.0  # s
_UNTOLD = 1.5  # s of offset that whole seconds, set and told, cannot show


class FaultAnswer(ChangeRefused):
    """A fault that is about what was asked."""

    def __init__(self, device: str, operation: str, fault: SoapFault) -> None:
        self.fault = fault
        super().__init__(device, {operation: fault.text})


class Client:
    """One device's services."""

    def __init__(
        self, name: str, address: str, login: tuple[str, Secret] | None, *, scheme: Login = "any",
        any_certificate: bool = False, limit: float = 5.0, wall: Callable[[], float] = time.time,
    ) -> None:  # fmt: skip
        parts = urlsplit(address)
        self.name, self.address = name, f"{parts.scheme}://{parts.netloc}"
        self._path = parts.path if parts.path.strip("/") else PATH
        self._login, self._wall = login, wall
        self.http = HttpInterface(name, self.address, scheme, login, any_certificate=any_certificate, limit=limit)
        self._paths: dict[OnvifService, str] | None = None
        self._by_token = False
        self._token_taken = False
        self._token_refused = False
        self._taken: set[str] = set()  # operations for which the token was taken
        self._offset: float | None = None  # s that the device's clock is ahead, once it was asked
        self._clock_asked = False
        self._clock_told = False  # by itself, not by the date of its answer

    def close(self) -> None:
        """Lets go of the connection."""
        self.http.close()

    # Services

    def services(self) -> Mapping[OnvifService, str]:
        """The paths of the services that the device has. Raises DeviceError."""
        if self._paths is None:
            self._paths = {OnvifService.DEVICE: self._path, **self._told_services()}
        return self._paths

    def _told_services(self) -> dict[OnvifService, str]:
        try:
            answer = self.call(
                OnvifService.DEVICE, element("tds:GetServices", element("tds:IncludeCapability", boolean(False)))
            )
            told = [(tree.text(one, "Namespace"), tree.text(one, "XAddr")) for one in tree.children(answer, "Service")]
            found = {OnvifService(namespace): self.path(at) for namespace, at in told if namespace in set(OnvifService) and at}
            if found.keys() - {OnvifService.DEVICE}:
                return found
        except (NotOffered, ChangeRefused):
            pass  # older than GetServices: Core 1.x
        try:
            answer = self.call(OnvifService.DEVICE, element("tds:GetCapabilities", element("tds:Category", "All")))
        except (NotOffered, ChangeRefused):
            return {OnvifService.MEDIA: self._path}
        named = {"Device": OnvifService.DEVICE, "Media": OnvifService.MEDIA, "PTZ": OnvifService.PTZ}
        listed = tree.find(answer, "Capabilities")
        found = {s: self.path(at) for name, s in named.items() if (at := tree.text(listed, name, "XAddr"))}
        return found if OnvifService.MEDIA in found else {**found, OnvifService.MEDIA: self._path}

    def path(self, told: str) -> str:
        """The path and query of an address that the device tells: host and port stay those by which we reach it."""
        try:
            parts = urlsplit(told.strip())
        except ValueError:
            return self._path
        query = f"?{parts.query}" if parts.query else ""
        path = f"/{parts.path.lstrip('/')}{query}"
        return path if path.isascii() and path.isprintable() and " " not in path else self._path

    # Requests

    def call(self, service: OnvifService, request: Element, *, anonymous: bool = False) -> Element:
        """The body of the answer.

        Raises Unreachable, LoginRefused, BadAnswer; NotOffered where the device does not know the request, FaultAnswer
        (a Refused) where it does not like it.
        """
        operation = tree.local(request)
        path = self._path if service is OnvifService.DEVICE else self._path_of(service, operation)
        answer = self._send(path, service, request, anonymous, self._by_token)
        fault = self._fault(answer, operation)
        if (
            fault is not None
            and not anonymous
            and self._login is not None
            and not self._by_token
            and self._not_admitted(answer, fault)
        ):
            self._give_up_if_refused(answer, operation)
            self._by_token = True
            answer = self._send(path, service, request, False, True)
            fault = self._fault(answer, operation)
        if fault is None:
            if not anonymous and self._by_token:
                self._token_was_taken(operation)
            body = soap.read(answer.content).body
            if body is None:
                raise BadAnswer(self.name, f"answers {operation} with an empty body")
            return body
        if self._not_admitted(answer, fault):
            # an operation that was allowed before and is not any more: the password was changed
            if not anonymous and self._by_token and (not self._token_taken or operation in self._taken):
                self._token_refused = True
                if self._login is not None:
                    refusals.current().note(self.address, *self._login)
            if FIRST_PASSWORD.search(fault.reason) and (
                self._login is None or not answer.headers.get("www-authenticate")
            ):
                words = f"wants its first password before anything else ({fault.reason}): direkt device claim {self.name}"
                raise DeviceLoginRefused(self.name, words, fault.reason)
            said = "" if fault.reason.lower().strip(" .") in _EMPTY_WORDS else fault.reason
            more = f"; it says: {said}" if said else ""
            raise DeviceLoginRefused(self.name, self._refusal(answer, fault, operation, anonymous) + more, fault.reason)
        if _NOT_THERE & set(fault.subcodes):
            raise NotOffered(self.name, f"does not offer {operation}: {fault.text}")
        raise FaultAnswer(self.name, operation, fault)

    def _path_of(self, service: OnvifService, operation: str) -> str:
        path = self.services().get(service)
        if path is None:
            raise NotOffered(self.name, f"does not offer {operation}: it has no such service")
        return path

    def _token_was_taken(self, operation: str) -> None:
        if not self._token_taken and self._login is not None:
            refusals.current().forget(self.address, *self._login)
        self._token_taken = True
        self._taken.add(operation)

    def _not_refused_before(self) -> None:
        """Raises LoginRefused where the login was refused, here or before."""
        when = refusals.current().refused(self.address, *self._login) if self._login is not None else None
        if self._token_refused or when is not None:
            words = f" on {when}" if when else ""
            raise DeviceLoginRefused(
                self.name, f"has refused this login{words}; it is not sent again, so that the account does not lock: change it in the rig, or "
                f"try it once more: direkt device login {self.name}"
            )

    def _send(self, path: str, service: OnvifService, request: Element, anonymous: bool, token: bool) -> HttpAnswer:
        header = []
        if token and not anonymous:
            self._not_refused_before()
            header = [self._token()]
        action = f"{service.value}/{tree.local(request)}"
        headers = {"Content-Type": f'{soap.CONTENT_TYPE}; action="{action}"'}
        return self.http.exchange("POST", path, soap.write(request, header), headers, anonymous=anonymous or token)

    def _token(self) -> Element:
        assert self._login is not None
        user, password = self._login
        moment = datetime.datetime.fromtimestamp(self._wall() + (self.offset() or 0.0), datetime.UTC)
        return soap.username_token(user, password.reveal(), moment, secrets.token_bytes(16))

    def _fault(self, answer: HttpAnswer, operation: str) -> SoapFault | None:
        """The fault in an answer; None where it is good. Raises BadAnswer."""
        try:
            envelope = soap.read(answer.content)
        except Malformed as error:
            if answer.status in (401, 403):
                return SoapFault("Sender", ("NotAuthorized",), "")
            if 300 <= answer.status < 400:
                target = re.sub(r"[^\x21-\x7e]|//[^/@]*@", "", answer.headers.get("location", "elsewhere"))[:80]
                raise BadAnswer(self.name, f"sends {operation} on to {target}: put that under 'address'") from None
            if answer.status in (404, 405, 501):
                return SoapFault("Receiver", ("NoSuchService",), f"HTTP status {answer.status}")
            what = f"HTTP status {answer.status}" if answer.status >= 400 else answer.kind
            raise BadAnswer(
                self.name, f"answers {operation} with {what} ({error}): does it speak ONVIF, and is that turned on?"
            ) from None
        if envelope.fault is None and answer.status in (401, 403):
            return SoapFault("Sender", ("NotAuthorized",), "")
        return envelope.fault

    @staticmethod
    def _not_admitted(answer: HttpAnswer, fault: SoapFault) -> bool:
        words = fault.reason.lower()
        said = "not authorized" in words or "unauthorized" in words or "authority failure" in words
        return answer.status == 401 or bool(_NOT_ADMITTED & set(fault.subcodes)) or (said and not fault.subcodes)

    def _give_up_if_refused(self, answer: HttpAnswer, operation: str) -> None:
        """Raises LoginRefused where HTTP has sent the login in vain: another way would count as another try."""
        if self.http.refused:
            raise DeviceLoginRefused(self.name, self.http.login_hint(answer) + self._clock_words())

    def _refusal(self, answer: HttpAnswer, fault: SoapFault, operation: str, anonymous: bool) -> str:
        offered = httpauth.parse_challenges(answer.headers.get_list("www-authenticate"))
        if self._login is None or anonymous or (offered and not self._by_token):
            return self.http.login_hint(answer)
        user = self._login[0]
        if self._token_taken:
            return f"takes the login of {user}, but not for {operation}: give that user more rights on its page"
        return (
            f"refuses the login of {user} (token of WS-Security; it offers no other){self._clock_words()}: "
            "check user name and password; it was sent once and is not sent again"
        )

    def _clock_words(self) -> str:
        offset = self._offset
        if not self._by_token:
            return ""
        if offset is None or not self._clock_told:
            return "; its clock cannot be read, and a token for the wrong time is refused too: set its clock"
        if abs(offset) > WRONG_CLOCK:
            return f"; its clock is {offset_text(offset)}, and the token was made for that"
        return ""

    # Clock

    def offset(self) -> float | None:
        """s that the device's clock is ahead of ours; None where it does not tell. Asked once."""
        if not self._clock_asked:
            self.clock()
        return self._offset

    def speaks(self) -> bool:
        """Whether there is SOAP at the address, whatever it says. Raises Unreachable."""
        answer = self._send(self._path, OnvifService.DEVICE, element("tds:GetSystemDateAndTime"), True, False)
        try:
            soap.read(answer.content)
        except Malformed:
            return False
        return True

    def clock(self) -> DeviceClock:
        """The device's clock, which it tells everybody (ONVIF Core, 8.3.4). Raises Unreachable."""
        self._clock_asked = True
        request = element("tds:GetSystemDateAndTime")
        before = self._wall()
        answer = self._send(self._path, OnvifService.DEVICE, request, True, False)
        middle = (before + self._wall()) / 2
        try:
            told = tree.find(soap.read(answer.content).body, "SystemDateAndTime")
        except Malformed:
            told = None
        moment, zone = _told_time(told), tree.text(told, "TimeZone", "TZ")
        self._clock_told = moment is not None
        if moment is None:
            moment = _http_date(answer)
        self._offset = None if moment is None else moment.timestamp() + 0.5 - middle  # it tells whole seconds
        offset = self._offset
        if offset is not None and abs(offset) < _UNTOLD:
            offset = 0.0
        return DeviceClock(moment, offset, tree.text(told, "DateTimeType").upper() == "NTP", (), zone)


def _told_time(told: Element | None) -> datetime.datetime | None:
    """UTC as the device tells it; else its local time less its zone. A time that does not exist is none."""
    for name in ("UTCDateTime", "LocalDateTime"):
        date, clock = tree.find(told, name, "Date"), tree.find(told, name, "Time")
        numbers = [tree.whole(tree.text(date, part)) for part in ("Year", "Month", "Day")]
        numbers += [tree.whole(tree.text(clock, part)) for part in ("Hour", "Minute", "Second")]
        year, month, day, hour, minute, second = (-1 if number is None else number for number in numbers)
        try:
            moment = datetime.datetime(year, month, day, hour, minute, min(second, 59), tzinfo=datetime.UTC)
        except (ValueError, OverflowError):
            continue
        if name == "UTCDateTime":
            return moment
        west = _west_of_utc(tree.text(told, "TimeZone", "TZ"))
        if west is not None:
            summer = tree.yes(tree.text(told, "DaylightSavings")) is True
            return moment + datetime.timedelta(seconds=west - (3600 if summer else 0))
    return None


def _west_of_utc(zone: str) -> float | None:
    """s that a POSIX time zone such as ``CET-1CEST`` or ``<+08>-8:30`` lies west of UTC (IEEE Std 1003.1, 8.3)."""
    match = re.match(r"(?:[A-Za-z]{3,}|<[^>]*>)([+-]?)(\d{1,2})(?::(\d{2}))?", zone)
    if match is None:
        return None
    size = int(match[2]) * 3600 + int(match[3] or 0) * 60
    return -size if match[1] == "-" else size


def _http_date(answer: HttpAnswer) -> datetime.datetime | None:
    try:
        found = email.utils.parsedate_to_datetime(answer.headers["date"])
        return found if found.tzinfo else found.replace(tzinfo=datetime.UTC)
    except (KeyError, ValueError, TypeError):
        return None


def offset_text(offset: float) -> str:
    """How far a clock is off, as people say it."""
    size = abs(offset)
    for unit, seconds in (("days", 86400), ("h", 3600), ("min", 60)):
        if size >= 2 * seconds:
            text = f"{size / seconds:.0f} {unit}"
            break
    else:
        text = f"{size:.0f} s"
    return f"{text} {'ahead' if offset > 0 else 'behind'}"
