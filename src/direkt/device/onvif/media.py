"""Channels of a device by its media services: profiles, encoders and their options, sources, sound; reading and setting.

Media2 is asked first where there is one, since only that knows H.265 and CBR. A part that a device leaves out or refuses
becomes a remark; only without any video encoder is there nothing to read.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import partial
from typing import TypeVar, cast

from direkt.described.errors import BadAnswer, ChangeRefused, NotOffered
from direkt.device.input import InputSignal
from direkt.device.onvif import settings
from direkt.device.onvif.build import OnvifService, boolean, element
from direkt.device.onvif.client import Client
from direkt.device.onvif.settings import AudioOption, EncodingOption, FoundValues
from direkt.device.state import Channel, Together
from direkt.parameters import Values
from direkt.protocol import tree
from direkt.protocol.source import offered
from direkt.protocol.tree import Element

Kept = TypeVar("Kept")

_NAMES = ("main", "second", "third", "fourth")  # of the channels of one source
_MOST = 64  # profiles that are looked at


@dataclass(slots=True)
class EncoderEntry:
    """A channel as the device keeps it."""

    profile: str  # token
    title: str
    config: Element
    source: str  # token of what it codes
    audio: Element | None  # its audio encoder's configuration
    has_audio_source: bool
    options: list[EncodingOption] = field(default_factory=list)
    audio_options: list[AudioOption] = field(default_factory=list)

    @property
    def token(self) -> str:
        """Of the video encoder's configuration."""
        return tree.attribute(self.config, "token")


class Media:
    """A device's media services."""

    def __init__(self, client: Client) -> None:
        self._client = client
        self._second = False  # Media2 is spoken
        self._known: dict[str, EncoderEntry] = {}
        self.remarks: list[str] = []
        # what does not change while a device is set: asked once
        self._kept: dict[tuple[str, str], tuple[object, list[str]]] = {}

    def _call(self, request: Element) -> Element:
        return self._client.call(OnvifService.MEDIA2 if self._second else OnvifService.MEDIA, request)

    def _name(self, operation: str) -> str:
        return f"{'tr2' if self._second else 'trt'}:{operation}"

    def _once(self, kind: str, token: str, ask: Callable[[], Kept]) -> Kept:
        """What was answered before, with its remarks; else the answer."""
        key = (kind, token)
        if key not in self._kept:
            before = len(self.remarks)
            self._kept[key] = ask(), self.remarks[before:]
        else:
            self.remarks += self._kept[key][1]
        return cast(Kept, self._kept[key][0])

    def forget(self) -> None:
        """The next reading asks for everything again."""
        self._kept.clear()

    def _maybe(self, what: str, ask: Callable[[], Element]) -> Element | None:
        """An answer; None, with a remark, where the device does not have it."""
        try:
            return ask()
        except (NotOffered, ChangeRefused, BadAnswer) as error:
            self.remarks.append(f"{what} not reported: {error.what}")
            return None

    # Reading

    def encoders(self) -> dict[str, EncoderEntry]:
        """The channels by our names. Raises DeviceError."""
        self.remarks = []
        found = self._profiles()
        for encoder in found:
            encoder.options, encoder.audio_options = self._once(
                "options", encoder.token, partial(self._options, encoder)
            )
        self._known = _named(found)
        return self._known

    def _profiles(self) -> list[EncoderEntry]:
        self._second = OnvifService.MEDIA2 in self._client.services()
        if self._second:
            try:
                found = self._profiles2()
                if found:
                    return found
                self.remarks.append("Media2 reports no video encoder: Media is used")
            except (NotOffered, ChangeRefused, BadAnswer) as error:
                self.remarks.append(
                    f"Media2 is not usable ({error.what}): Media is used"
                )
            self._second = False
        answer = self._call(element("trt:GetProfiles"))
        found = self._listed(
            tree.children(answer, "Profiles"), "VideoEncoderConfiguration", "AudioEncoderConfiguration"
        )
        if not found:
            raise BadAnswer(self._client.name, "reports no profile with a video encoder: make one on its page")
        return found

    def _profiles2(self) -> list[EncoderEntry]:
        answer = self._call(element("tr2:GetProfiles", element("tr2:Type", "All")))
        listed = [
            (profile, tree.find(profile, "Configurations")) for profile in tree.children(answer, "Profiles")
        ]  # fmt: skip
        out = []
        for profile, inner in listed[:_MOST]:
            config = tree.find(inner, "VideoEncoder")
            if config is not None:
                out.append(EncoderEntry(
                    tree.attribute(profile, "token"), tree.text(profile, "Name"), config,
                    tree.text(inner, "VideoSource", "SourceToken"), tree.find(inner, "AudioEncoder"),
                    tree.find(inner, "AudioSource") is not None,
                ))  # fmt: skip
        return _each_once(out)

    @staticmethod
    def _listed(profiles: object, video: str, audio: str) -> list[EncoderEntry]:
        out = []
        for profile in list(profiles)[:_MOST]:  # type: ignore[call-overload]
            config = tree.find(profile, video)
            if config is not None:
                out.append(EncoderEntry(
                    tree.attribute(profile, "token"), tree.text(profile, "Name"), config,
                    tree.text(profile, "VideoSourceConfiguration", "SourceToken"), tree.find(profile, audio),
                    tree.find(profile, "AudioSourceConfiguration") is not None,
                ))  # fmt: skip
        return _each_once(out)

    def _options(self, encoder: EncoderEntry) -> tuple[list[EncodingOption], list[AudioOption]]:
        def ask(kind: str, token: str) -> Callable[[], Element]:
            space = "tr2" if self._second else "trt"
            return lambda: self._call(element(
                self._name(f"Get{kind}EncoderConfigurationOptions"), element(f"{space}:ConfigurationToken", token),
                element(f"{space}:ProfileToken", encoder.profile),
            ))  # fmt: skip

        label = encoder.title or encoder.profile
        answer = self._maybe(f"limits of {label}", ask("Video", encoder.token))
        options: list[EncodingOption] = []
        audio_options: list[AudioOption] = []
        if answer is not None:
            options = settings.options(answer, second=self._second)
            if not options:
                self.remarks.append(f"limits of {label} not reported: the list is empty")
        audio = encoder.audio if encoder.audio is not None else self._spare_audio(encoder)
        if audio is not None:
            answer = self._maybe(f"limits of the sound of {label}", ask("Audio", tree.attribute(audio, "token")))
            if answer is not None:
                audio_options = settings.audio_options(answer, second=self._second)
        return options, audio_options

    def _spare_audio(self, encoder: EncoderEntry) -> Element | None:
        """An audio encoder that a channel without sound could have; None where the device has no sound."""
        try:
            if self._second:
                answer = self._call(element("tr2:GetAudioEncoderConfigurations"))
            else:
                answer = self._call(
                    element("trt:GetCompatibleAudioEncoderConfigurations", element("trt:ProfileToken", encoder.profile))
                )
        except (NotOffered, ChangeRefused, BadAnswer):
            return None  # no sound at all
        return next(tree.children(answer, "Configurations"), None)

    def sources(self) -> dict[str, InputSignal]:
        """What each video source gives."""
        ask = OnvifService.MEDIA if OnvifService.MEDIA in self._client.services() else OnvifService.DEVICE
        answer = None
        if ask is OnvifService.MEDIA:
            answer = self._maybe(
                "what the sensor gives", lambda: self._client.call(ask, element("trt:GetVideoSources"))
            )
        out = {}
        for one in tree.children(answer, "VideoSources"):
            size = settings.size_of(tree.find(one, "Resolution"))
            rate = tree.number(tree.text(one, "Framerate"))
            width, height = (int(side) for side in size.split("x")) if size else (0, 0)
            rate = rate if rate is not None and 0 < rate < 1000 else 0.0
            text = " at ".join(filter(None, (size, f"{rate:g} fps" if rate else "")))
            out[tree.attribute(one, "token")] = InputSignal(text, width, height, rate)
        return out

    def channels(self) -> tuple[dict[str, Channel], dict[str, InputSignal]]:
        """All channels with values and limits, and the sources. Raises DeviceError."""
        encoders = self.encoders()
        sources = self._once("sources", "", self.sources)
        return {name: self._channel(name, encoder, sources) for name, encoder in encoders.items()}, sources

    def _channel(self, name: str, encoder: EncoderEntry, sources: dict[str, InputSignal]) -> Channel:
        found = FoundValues()
        settings.video_values(encoder.config, found, second=self._second)
        settings.audio_values(encoder.audio, found)
        limits, together = settings.video_limits(encoder.options, found.values)
        sound: list[Together] = []
        if encoder.audio is not None or encoder.audio_options:
            more, sound = settings.audio_limits(encoder.audio_options)
            limits |= more
        self.remarks += [f"{name}: {remark}" for remark in found.remarks]
        source = sources.get(encoder.source) if len(sources) > 1 else None
        title = encoder.title or encoder.profile
        token = tree.attribute(encoder.audio, "token")
        return Channel(name, found.values, limits, title, (*together, *sound), source, sound=token)

    # Setting

    def write(self, name: str, values: Values, channel: Channel) -> None:
        """Sets parameters of a channel. Raises Refused and other DeviceErrors."""
        encoder = self._known.get(name) or self.encoders().get(name)
        if encoder is None:
            raise BadAnswer(self._client.name, f"has no channel {name!r} any more")
        whole = {**channel.values, **values}
        if any(parameter.startswith("video.") for parameter in values):
            self._write_video(encoder, values, whole)
        if any(parameter.startswith("audio.") for parameter in values):
            self._write_audio(encoder, values)

    def _write_video(self, encoder: EncoderEntry, values: Values, whole: Values) -> None:
        fresh = self._fresh("Video", encoder.token)
        config = fresh if fresh is not None else encoder.config
        codec = whole.get("video.codec")
        option = next((one for one in encoder.options if one.codec == codec), None)
        self._set("Video", settings.video_config(config, values, whole, option, second=self._second))

    def _fresh(self, kind: str, token: str) -> Element | None:
        """A configuration as it is now; None where the device does not give it out by itself."""
        space = "tr2" if self._second else "trt"
        plural, listed = ("s", "Configurations") if self._second else ("", "Configuration")
        try:
            answer = self._call(
                element(f"{space}:Get{kind}EncoderConfiguration{plural}", element(f"{space}:ConfigurationToken", token))
            )
        except (NotOffered, ChangeRefused, BadAnswer):
            return None
        found = [one for one in tree.children(answer, listed) if tree.attribute(one, "token") == token]
        return found[0] if found else None

    def _set(self, kind: str, config: Element) -> None:
        force = None if self._second else element("trt:ForcePersistence", boolean(True))
        self._call(element(self._name(f"Set{kind}EncoderConfiguration"), config, force))

    def _write_audio(self, encoder: EncoderEntry, values: Values) -> None:
        wanted = values.get("audio.present")
        if wanted == "no":
            self._remove_audio(encoder)
            return
        config = encoder.audio
        if config is None:
            config = self._spare_audio(encoder)
            if config is None:
                raise ChangeRefused(self._client.name, {"audio.present": "the device has no audio encoder"})
            if wanted == "yes":
                self._add_audio(encoder, config)
        if set(values) - {"audio.present"}:
            fresh = self._fresh("Audio", tree.attribute(config, "token"))
            self._set(
                "Audio", settings.audio_config(fresh if fresh is not None else config, values, second=self._second)
            )

    def _add_audio(self, encoder: EncoderEntry, config: Element) -> None:
        token = tree.attribute(config, "token")
        source = None if encoder.has_audio_source else self._audio_source()
        if self._second:
            pairs = [("AudioSource", source)] if source else []
            inner = [
                element("tr2:Configuration", element("tr2:Type", kind), element("tr2:Token", one))
                for kind, one in [*pairs, ("AudioEncoder", token)] if one
            ]  # fmt: skip
            self._call(element("tr2:AddConfiguration", element("tr2:ProfileToken", encoder.profile), *inner))
            return
        for kind, one in (("AudioSource", source), ("AudioEncoder", token)):
            if one:
                self._call(element(
                    f"trt:Add{kind}Configuration", element("trt:ProfileToken", encoder.profile), element("trt:ConfigurationToken", one)
                ))  # fmt: skip

    def _audio_source(self) -> str:
        try:
            answer = self._call(element(self._name("GetAudioSourceConfigurations")))
        except (NotOffered, ChangeRefused):
            return ""
        return tree.attribute(next(tree.children(answer, "Configurations"), None), "token")

    def _remove_audio(self, encoder: EncoderEntry) -> None:
        if encoder.audio is None:
            return
        profile = element(self._name("ProfileToken"), encoder.profile)
        if self._second:
            inner = element(
                "tr2:Configuration", element("tr2:Type", "AudioEncoder"), element("tr2:Token", tree.attribute(encoder.audio, "token"))
            )  # fmt: skip
            self._call(element("tr2:RemoveConfiguration", profile, inner))
        else:
            self._call(element("trt:RemoveAudioEncoderConfiguration", profile))

    # Addresses

    def stream(self, name: str, host: str) -> str:
        """Where a channel can be fetched; empty where the device does not tell."""
        encoder = self._known[name]
        return self._once("stream", encoder.profile, lambda: self._stream(name, encoder, host))

    def _stream(self, name: str, encoder: EncoderEntry, host: str) -> str:
        if self._second:
            request = element(
                "tr2:GetStreamUri", element("tr2:Protocol", "RTSP"), element("tr2:ProfileToken", encoder.profile)
            )
        else:
            setup = element(
                "trt:StreamSetup", element("tt:Stream", "RTP-Unicast"), element("tt:Transport", element("tt:Protocol", "RTSP"))
            )  # fmt: skip
            request = element("trt:GetStreamUri", setup, element("trt:ProfileToken", encoder.profile))
        answer = self._maybe(f"stream address of {name}", lambda: self._call(request))
        told = tree.text(answer, "MediaUri", "Uri") or tree.text(answer, "Uri")
        return offered(told, host)

    def snapshot(self, name: str) -> str:
        """The path of a channel's picture. Raises NotOffered."""
        encoders = self._known or self.encoders()
        encoder = encoders.get(name)
        if encoder is None:
            raise BadAnswer(self._client.name, f"has no channel {name!r}; it has {', '.join(encoders)}")
        answer = self._call(element(self._name("GetSnapshotUri"), element(self._name("ProfileToken"), encoder.profile)))
        told = tree.text(answer, "MediaUri", "Uri") or tree.text(answer, "Uri")
        if not told:
            raise NotOffered(self._client.name, f"reports no snapshot address for {name}")
        return self._client.path(told)

    def profile_of_first(self) -> str:
        """The token of the main channel's profile. Raises DeviceError."""
        encoders = self._known or self.encoders()
        return next(iter(encoders.values())).profile


def _each_once(found: list[EncoderEntry]) -> list[EncoderEntry]:
    """One channel for each encoder, by the first profile that uses it."""
    kept: dict[str, EncoderEntry] = {}
    for encoder in found:
        kept.setdefault(encoder.token or encoder.profile, encoder)
    return list(kept.values())


def _named(found: list[EncoderEntry]) -> dict[str, EncoderEntry]:
    """Names: main is the encoder that can do the largest picture of its source, in the device's order where several can."""

    def largest(encoder: EncoderEntry) -> int:
        sizes = [size for option in encoder.options for size in option.sizes] or [
            settings.size_of(tree.find(encoder.config, "Resolution"))
        ]
        return max((int(w) * int(h) for w, _, h in (size.partition("x") for size in sizes if size)), default=0)

    sources = list(dict.fromkeys(encoder.source for encoder in found))
    out = {}
    for n, source in enumerate(sources, 1):
        own = sorted((e for e in found if e.source == source), key=largest, reverse=True)
        for k, encoder in enumerate(own):
            name = _NAMES[k] if k < len(_NAMES) else f"channel-{k + 1}"
            out[name if n == 1 else f"{n}-{name}"] = encoder
    return out


def with_stream(channel: Channel, address: str) -> Channel:
    """The channel with the address at which it can be fetched."""
    return replace(channel, stream=address)
