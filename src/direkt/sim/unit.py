"""What all simulated gear shares: power, restarts, one login, one port, and one push of what its channel is set to."""

from __future__ import annotations

import asyncio
import contextlib
import threading
import time
from abc import ABC, abstractmethod
from dataclasses import dataclass

from direkt.codec.bits import BitstreamError
from direkt.codec.programme import AudioSettings, Programme
from direkt.codec.testcard import CardSettings
from direkt.net import certificates, loops
from direkt.net.transport import PublishError, transport
from direkt.protocol import address
from direkt.protocol.address import AddressError, ServerAddress
from direkt.secret import Secret
from direkt.sim.push import push
from direkt.sim.web import Faults, Login, Web, WebRequest, WebResponse

RESTART_SECONDS = 2.0
RETRY_SECONDS = 3.0


@dataclass(frozen=True, slots=True)
class PushTarget:
    """Where a push goes, and what it carries."""

    server: str
    key: str
    video: CardSettings
    audio: AudioSettings | None


class SimulatedUnit(ABC):
    """One device. start() opens its port on the loopback interface, stop() switches it off."""

    def __init__(
        self, realm: str, user: str, password: str, *, port: int = 0, faults: Faults | None = None,
        schemes: tuple[str, ...] = ("digest MD5",), host: str = "127.0.0.1",
    ) -> None:  # fmt: skip
        self.faults = faults or Faults()
        self.login = Login(realm, user, password, schemes, self.faults)
        self.web = Web(self.answer, self.faults, host, port)
        self.push_state, self.push_message, self.sent = "stopped", "", 0
        self._lock = threading.RLock()
        self._booted = time.monotonic()
        self._loop = asyncio.new_event_loop()
        self._push_task: asyncio.Task[None] | None = None
        self._stopping = False
        self._thread = threading.Thread(target=self._run_loop, daemon=True)

    @property
    def port(self) -> int:
        """Its port."""
        return self.web.port

    @property
    def host(self) -> str:
        """Its address."""
        return self.web.host

    @property
    def is_on(self) -> bool:
        """Whether its port is open."""
        return self.web.is_open

    @abstractmethod
    def answer(self, request: WebRequest) -> WebResponse:
        """What it answers."""

    @abstractmethod
    def target(self) -> PushTarget:
        """What the push shall be now. Raises BitstreamError."""

    @abstractmethod
    def restarted(self) -> None:
        """What was saved comes into force."""

    # Power

    def start(self) -> None:
        """Switches on. Raises OSError when the port is taken."""
        self._thread.start()
        try:
            self.open_ports()
        except OSError:
            self._loop.call_soon_threadsafe(self._loop.stop)
            raise

    def open_ports(self) -> None:
        """Its page is there, after being switched on or restarted. Raises OSError."""
        self.web.open()

    def close_ports(self) -> None:
        """Its page goes, to restart or to be switched off."""
        self.web.close()

    def stop(self) -> None:
        """Switches off: the push ends in good order, the port closes."""
        self._stopping = True
        self.end_push()
        self.close_ports()
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(5)

    def _run_loop(self) -> None:
        asyncio.set_event_loop(self._loop)
        self._loop.run_forever()
        loops.end(self._loop)

    @property
    def uptime(self) -> float:
        """s since it was switched on or restarted."""
        return time.monotonic() - self._booted

    @property
    def temperature(self) -> float:
        """Degrees Celsius."""
        return round(44.5 + 3.0 * min(1.0, self.uptime / 600), 1)

    def restart(self) -> None:
        """Goes away for two seconds; then what was saved is in force, and the push is off."""
        threading.Thread(target=self._restart, daemon=True).start()

    def _restart(self) -> None:
        time.sleep(0.1)  # lets the answer out
        self.end_push()
        self.close_ports()
        if self.faults.never_returns:
            return
        time.sleep(RESTART_SECONDS)
        with self._lock:
            self.restarted()
            self._booted = time.monotonic()
        for _ in range(50):  # somebody may hold the port for a moment
            if self._stopping:
                return
            try:
                self.open_ports()
                return
            except OSError:
                time.sleep(0.1)

    # Push

    def begin_push(self) -> None:
        """Starts the push, unless it runs."""
        with self._lock:
            if self._push_task is None:
                self.push_state, self.push_message, self.sent = "connecting", "", 0
                done = threading.Event()

                def begin() -> None:
                    self._push_task = self._loop.create_task(self._push())
                    done.set()

                self._loop.call_soon_threadsafe(begin)
                done.wait(2)

    def end_push(self) -> None:
        """Ends it in good order."""
        task = self._push_task
        if task is not None:
            with contextlib.suppress(RuntimeError):
                self._loop.call_soon_threadsafe(task.cancel)
            deadline = time.monotonic() + 3
            while not task.done() and time.monotonic() < deadline:
                time.sleep(0.01)
        with self._lock:
            self._push_task = None
            self.push_state, self.push_message = "stopped", ""

    def server_of(self, text: str) -> ServerAddress:
        """Where it connects to. Raises AddressError."""
        return address.parse(text)

    async def _push(self) -> None:
        while True:
            with self._lock:
                self.push_state = "connecting"
            try:
                with self._lock:
                    target = self.target()
                server = self.server_of(target.server)
                publisher = transport(server.scheme).publisher(server, Secret(target.key), tls=certificates.unchecked())
                await push(publisher, Programme(target.video, target.audio), self._progress)
            except (PublishError, AddressError, BitstreamError) as error:
                with self._lock:
                    self.push_state, self.push_message = "retrying", str(error)
            await asyncio.sleep(RETRY_SECONDS)

    def _progress(self, sent: int) -> None:
        self.sent = sent
        self.push_state, self.push_message = "pushing", ""
