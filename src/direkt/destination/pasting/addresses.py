"""Server addresses in a paste: found by their form, put together, and read against those that are known."""

from __future__ import annotations

import ipaddress
import re
from dataclasses import replace

from direkt.destination.no_key import slip_of
from direkt.destination.pasting.state import PasteError, Work, keyish, strong
from direkt.destination.pasting.words import Word, said
from direkt.protocol import address
from direkt.protocol.address import AddressError, ServerAddress
from direkt.protocol.schemes import MISTAKEN, PORTS, SPOKEN

_LOCAL = [
    ipaddress.ip_network(n)
    for n in (
        "10.0.0.0/8",
        "172.16.0.0/12",
        "192.168.0.0/16",
        "169.254.0.0/16",
        "127.0.0.0/8",
        "fc00::/7",
        "fe80::/10",
        "::1/128",
    )
]
_SCHEMES = "|".join(sorted([*SPOKEN, *MISTAKEN], key=len, reverse=True))
_SCHEME = re.compile(rf"(?i)^(?:({_SCHEMES})\s*(?::/{{0,4}}|;/{{1,4}}|/{{2,4}}|:\s+/{{1,3}}))")
_FOREIGN = re.compile(r"(?i)^(?:[a-z][a-z0-9+.-]{1,12}://|www\.)\S")
_OTHERS = frozenset(
    [
        "srt",
        "rtsp",
        "rtsps",
        "rist",
        "udp",
        "rtp",
        "tcp",
        "ftp",
        "ftps",
        "sftp",
        "ws",
        "wss",
        "mms",
        "rtmpt",
        "rtmpe",
        "rtmpte",
        "whip",
        "hls",
        "webrtc",
    ]
)
_PART = re.compile(r"(?i)/{0,2}[a-z0-9-]{2,63}(?:\.[a-z0-9-]{1,63})+/?|[a-z0-9.-]*/[a-z0-9./-]*")
_NO_SCHEME = re.compile(r"(?i)/{0,2}(?!www\.)[a-z0-9-]{1,63}(?:\.[a-z0-9-]{1,63})+(?::\d{1,5})?/\S*")
MENTIONED = re.compile(rf"(?i)(?<![a-z])(?:{_SCHEMES}|srt|rtsp)\s{{0,2}}(?:[:;]?\s{{0,2}}/{{1,4}}|%3a)|%2f")
_PLACEHOLDER = re.compile(
    r"(?i)[{<\[$%].*|(?:your|my)?[_-]?(?:stream)?[_-]?(?:key|name)|stream[_-]?key[_-]?here|x{4,}|tb[acd]|todo|none|null|follows|\*{3,}|•{3,}"
)


# Finding them


def is_address(piece: str) -> bool:
    return _SCHEME.match(piece) is not None or re.match(rf"(?i)({_SCHEMES})[:;/]", piece) is not None


def whole_addresses(pasted: list[Word], work: Work) -> list[Word]:
    """Addresses that spaces or line ends tore apart, put together: at their joints, or where that makes a known one."""
    out: list[Word] = []
    n = 0
    while n < len(pasted):
        word = pasted[n]
        n += 1
        if re.fullmatch(rf"(?i)({_SCHEMES})", word.text) and n < len(pasted) and re.match(r":?//", pasted[n].text):
            word, n = replace(word, text=word.text + pasted[n].text), n + 1
        begins = any(len(word.text) > 5 and _bare(str(k)).startswith(word.text.lower()) for k in work.known)
        if not is_address(word.text) and not (begins and _known_across(pasted, n, word.text, work) > n):
            out.append(word)
            continue
        upto = _known_across(pasted, n, word.text, work)
        while n < len(pasted) and (n < upto or (is_address(word.text) and _torn(word.text, pasted[n], work))):
            word = replace(word, text=word.text + pasted[n].text, role=word.role or pasted[n].role)
            said(work.repairs, "spaces inside the server address removed")
            n += 1
        out.append(word)
    return out


def _known_across(pasted: list[Word], n: int, begun: str, work: Work) -> int:
    """Up to which word an address goes on, so that a known one comes out; ``n`` where it does not."""
    text = _bare(begun)
    if any(text == _bare(str(k)) or text.startswith(_bare(str(k)) + "/") for k in work.known):
        return n
    for upto in range(n, min(len(pasted), n + 4)):
        if is_address(pasted[upto].text) or pasted[upto].label == "key":
            break
        text += _bare(pasted[upto].text)
        if any(text == _bare(str(k)) or text.startswith(_bare(str(k)) + "/") for k in work.known):
            return upto + 1
    return n


def _bare(text: str) -> str:
    return re.sub(r"(?i)^[a-z]+:?/*(?=\w)", "", text.lower()) if is_address(text) else text.lower()


def _torn(last: str, following: Word, work: Work) -> bool:
    """Whether an address goes on in the next word, by the sign at the joint."""
    piece = following.text
    if is_address(piece) or following.label == "key" or (work.pattern is not None and work.pattern.fits(piece)):
        return False
    if _FOREIGN.match(piece):
        return False
    rest = _SCHEME.sub("", last)
    if piece[0] in "/:.":
        return piece[0] != ":" or piece[1:2].isdigit()
    if last.endswith(("/", ":")) and not rest.strip("/:"):
        return True  # only a scheme so far
    if last.endswith("."):
        return "/" in piece or "/" not in rest
    return (
        last.endswith("/")
        and rest.count("/") == 1
        and re.fullmatch(r"[\w-]{1,40}(?:/\S*)?", piece) is not None
        and not strong(piece)
    )


def with_schemes(pasted: list[Word], work: Work) -> list[Word]:
    """A known host without its scheme gets it."""
    out: list[Word] = []
    for word in pasted:
        match = re.match(r"(?i)^(?:/{0,2})([a-z0-9.-]+\.[a-z0-9-]+)(:\d+)?(/.*)$", word.text)
        known = next((k for k in work.known if match and k.host == match[1].lower()), None)
        if match and known is not None:
            said(work.repairs, f"the scheme {known.scheme}:// that was missing is put before the server address")
            word = replace(word, text=f"{known.scheme}://{match[1]}{match[2] or ''}{match[3]}")
        elif word.text.lower().strip("/") in work.hosts:
            work.set_aside(
                f"the host {word.text.lower().strip('/')} alone is no server address and was not taken: copy it with its application"
            )
            continue
        out.append(word)
    return out


def without_foreign(others: list[Word], work: Work) -> list[Word]:
    """Links to pages and addresses of other protocols are never a key, and never an ingest: they are said."""
    out = []
    for word in others:
        if work.pattern is not None and work.pattern.fits(word.text):
            out.append(word)
            continue
        if _NO_SCHEME.fullmatch(word.text):
            work.set_aside("what looks like a server address has no scheme (rtmp://) before it and was not taken")
            continue
        if not _FOREIGN.match(word.text):
            out.append(word)
            continue
        scheme, _, rest = word.text.lower().partition("://")
        page = scheme in ("http", "https") or not rest
        named = f"one of {scheme}" if scheme in _OTHERS else "of a kind"  # else it may be anything, a key too
        kind = "a page's" if page else f"{named} which Direkt does not push by"
        work.set_aside(f"the address{_place(rest)} is {kind} and was not taken")
    for word in out:
        if work.pattern is not None:
            whole = _PART.fullmatch(word.text) is not None or "//" in word.text or ":/" in word.text
            part = whole and not work.pattern.could_begin(word.text[:3])
        else:
            part = None is not re.fullmatch(
                r"(?i)(?:[a-z-]{2,63}\.){2,}[a-z-]{1,63}|[a-z-]{2,63}/[a-z-]{2,63}", word.text
            )
        if part and word.label != "key":
            work.set_aside("what looks like a part of an address was not taken: copy the server address whole")
    return out


def _place(rest: str) -> str:
    """Where a link leads, in words; nothing where what stands there may be anything else than a host."""
    host = re.split(r"[/?#:]", rest, maxsplit=1)[0].lower()
    if any(strong(label) for label in host.split(".")) or strong(host):
        return ""
    return f" to {host}" if len(host) < 80 and re.fullmatch(r"[a-z0-9-]+(?:\.[a-z0-9-]+)*\.[a-z]{2,}", host) else ""


def _is_page(piece: str, work: Work) -> bool:
    """Whether an http address is a page, and not an ingest with the wrong scheme."""
    match = _SCHEME.match(piece)
    if match is None or match[1].lower() in SPOKEN:
        return False
    rest = piece[match.end() :]
    if is_address(rest):
        return False
    host, _, path = rest.partition("/")
    host = re.sub(r":\d*$", "", host).lower()
    apps = {k.app.lower() for k in work.known if k.host == host}
    path = path.strip("/").lower()
    return not any(path == app or path.startswith(f"{app}/") for app in apps)


# Reading them


def server(addresses: list[Word], others: list[Word], work: Work) -> tuple[ServerAddress | None, str | None]:
    """The one address that is meant, and the key that hung on it."""
    pages = [word for word in addresses if _is_page(word.text, work)]
    for word in pages:
        work.set_aside(f"the link{_place(_SCHEME.sub('', word.text))} is a page's, not an ingest, and was not taken")
    addresses = [word for word in addresses if word not in pages]
    viewers = [word for word in addresses if word.label == "viewing"]
    if viewers and len(viewers) < len(addresses):
        work.left.append("the address for viewers was not taken")
        addresses = [word for word in addresses if word not in viewers]
    backups = [word for word in addresses if word.role == "backup"]
    if backups and len(backups) < len(addresses):
        work.left.append("the backup's address was not taken: give it a destination of its own")
        addresses = [word for word in addresses if word.role != "backup"]
    if not addresses:
        return None, None
    if all(word.role == "backup" for word in addresses) and not any(
        _bare(word.text) == _bare(str(k)) for word in addresses for k in work.known
    ):
        work.questions.append("the only server address is labelled as the backup's")
    if work.pattern is None:
        for word in others:
            if (
                not word.label
                and keyish(word.text)
                and any(a.line == word.line and "/" in _SCHEME.sub("", a.text).partition("/")[2] for a in addresses)
            ):
                raise PasteError("the key after the server address may be broken up: copy it again, alone")
    work.chatty = any(len([w for w in others if w.line == a.line and not w.label]) > 1 for a in addresses)
    given = [word.text for word in others]
    found = [_address(text, given, work) for text in dict.fromkeys(word.text for word in addresses)]
    found = _one_of_twins(found, work)
    if len({str(server) for server, _ in found}) > 1:
        raise PasteError("two different server addresses were pasted: paste one")
    keys = {key for _, key in found if key is not None}
    if len(keys) > 1:
        raise PasteError("two different keys stand in the pasted addresses: paste one")
    if len(addresses) > 1:
        said(work.repairs, "the server address was pasted more than once")
    return found[0][0], next(iter(keys), None)


def _one_of_twins(found: list[tuple[ServerAddress, str | None]], work: Work) -> list[tuple[ServerAddress, str | None]]:
    """Of one server's addresses with and without TLS, the one that is known."""
    servers = {str(server): server for server, _ in found}
    if len(servers) != 2 or len({(s.host, s.app) for s in servers.values()}) != 1:
        return found
    ours = [text for text in servers if any(str(k) == text for k in work.known)]
    if len(ours) != 1:
        return found
    other = next(server for text, server in servers.items() if text != ours[0])
    work.left.append(f"the same server's address with {other.scheme}:// was not taken")
    keys = {key for _, key in found if key is not None}
    return [(servers[ours[0]], next(iter(keys), None))] if len(keys) < 2 else found


def _address(piece: str, given: list[str], work: Work) -> tuple[ServerAddress, str | None]:
    """The server in ``piece``, and the key that may hang on it."""
    piece = piece.strip(",;")
    while piece[-1:] in ")]>" and piece.count(piece[-1]) > piece.count({")": "(", "]": "[", ">": "<"}[piece[-1]]):
        piece = piece[:-1]
    scheme, rest = _scheme(piece, work)
    if "@" in rest.partition("/")[0]:
        raise PasteError(
            "the server address holds a login: logins have an entry of their own; copy the address without it"
        )
    host, slash, path = rest.partition("/")
    if host != host.lower():
        said(work.repairs, "the host is written in small letters")
        host = host.lower()
    if re.search(r"\w\.(?=:|$)", host):
        said(work.repairs, "the full stop after the host removed")
        host = re.sub(r"\.(?=:|$)", "", host)
    path, question, query = path.partition("?")
    if slash and (path != path.strip("/") or "//" in path):
        said(work.repairs, "extra slashes removed from the server address")
        path = re.sub(r"/{2,}", "/", path).strip("/")
    _check_host(host, work)
    if not path:
        raise PasteError(
            "the server address has no application after its host (rtmp://host/application): copy it whole"
        )
    app, inner = _split_path(f"{path}{question}{query}", re.sub(r":\d*$", "", host), given, work)
    if not re.fullmatch(r"[\w.~!$&'()*+,;=:@%/?-]+", app, re.ASCII):
        raise PasteError(
            "the application in the server address holds a sign that cannot stand there: copy the address whole, alone"
        )
    try:
        server = address.parse(f"{scheme}://{host}/{app}")
    except AddressError as error:
        if host in str(error):  # what stands there may be anything, a key too
            raise PasteError("what follows the scheme is not a host name: copy the server address again") from None
        raise PasteError(str(error)) from None
    _check_port(server, work)
    return server, inner


def _scheme(piece: str, work: Work) -> tuple[str, str]:
    schemes: list[str] = []
    rest = piece
    while match := _SCHEME.match(rest):
        schemes.append(match[1].lower())
        if match[0].lower() != f"{match[1].lower()}://":
            said(work.repairs, "the slashes and colon after the scheme corrected")
        elif match[0] != match[0].lower():
            said(work.repairs, "the scheme is written in small letters")
        rest = rest[match.end() :]
    if not schemes:
        raise PasteError("the server address is broken after its scheme: copy it whole")
    taken = {p for p, _ in work.ports} | {k.scheme for k in work.known}
    ours = [s for s in schemes if s in SPOKEN]
    if len(schemes) > 1:
        if len({MISTAKEN.get(s, s) for s in schemes}) > 1:
            raise PasteError(
                f"the server address has two schemes, {' and '.join(dict.fromkeys(schemes))}: copy it again"
            )
        said(work.repairs, "the doubled scheme removed")
    if ours:
        return ours[-1], rest
    meant = MISTAKEN[schemes[0]]
    if taken and meant not in taken:
        raise PasteError(
            f"{schemes[0]}:// is for web pages, and this destination takes no {meant}: copy the server address again"
        )
    said(work.repairs, f"{schemes[0]}:// replaced by {meant}://")
    return meant, rest


def _check_host(host: str, work: Work) -> None:
    bare = re.sub(r":\d*$", "", host).strip("[]")
    try:
        number = ipaddress.ip_address(bare)
    except ValueError:
        if not re.fullmatch(r"[a-z0-9.-]+", bare) or ("." not in bare and bare != "localhost"):
            raise PasteError("what follows the scheme is not a host name: copy the server address again") from None
        if bare == "localhost" and bare not in work.hosts:
            raise PasteError("localhost is this machine, not a platform: copy the server address again") from None
        for k in work.known:
            if bare not in work.hosts and slip_of(bare, k.host):
                work.questions.append(f"the host {bare} is one letter off this destination's {k.host}")
                break
        return
    if bare in work.hosts:
        return
    if any(number in net for net in _LOCAL if net.version == number.version):
        raise PasteError(
            f"{bare} is an address of some local network, not of a platform: copy the server address again"
        )
    if work.known:
        raise PasteError(f"{bare} is a bare IP address; this destination's server is {work.known[0].host}")


def _check_port(server: ServerAddress, work: Work) -> None:
    pair = (server.scheme, server.port)
    if pair in work.ports or any((k.scheme, k.port) == pair for k in work.known):
        return
    other = next((s for s, p in PORTS.items() if p == server.port and s != server.scheme), None)
    if other is not None:
        raise PasteError(
            f"port {server.port} is that of {other}://, but the address begins with {server.scheme}://: which is meant?"
        )
    if work.ports and server.scheme not in {p for p, _ in work.ports}:
        raise PasteError(f"this destination takes {', '.join(sorted({p for p, _ in work.ports}))}, not {server.scheme}")


def _split_path(path: str, host: str, given: list[str], work: Work) -> tuple[str, str | None]:
    """Application and key of a path that may hold both."""
    plain, question, query = path.partition("?")
    here = [k.app for k in work.known if k.host == host]
    apps = here or [k.app for k in work.known]
    if path[-1:] in ".,;:!" and path[:-1].lower() in {app.lower() for app in apps}:
        said(work.repairs, "the sentence's own sign after the server address removed")
        path = path[:-1]
    head, _, tail = path.rpartition("/")
    if head and _PLACEHOLDER.fullmatch(tail) and not (work.pattern and work.pattern.fits(tail)):
        said(work.repairs, "the placeholder for the key after the server address removed")
        path = plain = head
        question = query = ""
    for app in sorted(set(apps), key=len, reverse=True):
        if path.lower() == app.lower():
            return _cased(path, app, work), None
        if path.lower().startswith(app.lower() + "/"):
            inner = path[len(app) + 1 :]
            if "/" in inner.partition("?")[0] and work.pattern is None and inner not in given:
                raise PasteError(
                    "several parts follow the application: which of them is the key? Paste address and key apart"
                )
            said(work.repairs, "the key was pasted into the server address and is taken apart")
            return _cased(path[: len(app)], app, work), inner
    if _PLACEHOLDER.fullmatch(path) and path not in apps:
        raise PasteError("the server address has a placeholder where its application should stand: copy it whole")
    others = [t for t in given if t != path and strong(t)]
    like = work.pattern is not None and (
        work.pattern.fits(path)
        or (len(path) > 3 and work.pattern.could_begin(path))
        or (len(path) > 7 and work.pattern.could_begin(path[:6]))
    )
    if (
        re.search(r"\.{2,}|…|[*•]{2,}", path)
        or like
        or path in given
        or (here and work.pattern is None and "/" not in path and strong(path) and not others and path not in apps)
    ):
        raise PasteError(
            "where the server address should have its application stands what may be a key: copy the address whole, and paste the key apart"
        )
    segments = plain.split("/")
    for n in range(1, len(segments)):
        tail = "/".join(segments[n:]) + question + query
        if tail in given or (work.pattern is not None and work.pattern.fits(tail)):
            said(work.repairs, "the key was pasted into the server address and is taken apart")
            while n > 1 and segments[n - 1] == tail:  # it stands there twice
                n -= 1
            whole = segments[:n] if n == 1 or not _PLACEHOLDER.fullmatch(segments[n - 1]) else segments[: n - 1]
            return _new_application("/".join(whole), host, here, work), tail
    if question:
        raise PasteError(
            "the server address ends in a question mark and more: is the key pasted into it? Paste them apart"
        )
    if "/" in plain and path not in apps:
        raise PasteError(
            "the server address may hold the key, and nothing shows where it begins: paste address and key apart"
        )
    return _new_application(path, host, here, work), None


def _cased(app: str, known: str, work: Work) -> str:
    """A known application as it is written there."""
    if app != known:
        said(work.repairs, "capital and small letters of the application corrected")
    return known


def _new_application(app: str, host: str, here: list[str], work: Work) -> str:
    """Says that an application is not one of those known of this host; a letter off is asked about."""
    if not here or any(app.lower() == known.lower() for known in here):
        return app
    shown = "" if strong(app) else f" {app}"  # what looks like a key is not repeated
    if work.chatty or app.lower() in ("stream", "key", "server", "url", "streamkey", "ingest"):
        work.questions.append(f"the application{shown} on {host} may be a word of the page")
    elif any(slip_of(app.lower(), known.lower()) for known in here):
        work.questions.append(f"the application{shown} is one letter off {here[0]} on {host}")
    else:
        said(work.repairs, f"a new application{shown} on {host} instead of {here[0]}")
    return app
