"""What simulated cameras answer of their pictures, sound and positions, by both media services."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Callable
from typing import TYPE_CHECKING

from direkt.protocol import tree
from direkt.protocol.tree import Element
from direkt.sim.onvif_words import SPACES, OnvifFault, Operation, address, tag, text_of

if TYPE_CHECKING:
    from direkt.sim.camera import Camera, Coder, EncodingOffer, ProfileStream


Multicast = tuple[str, int, int, bool]


def _multicast(told: Multicast) -> str:
    place, port, hops, starts = told
    return tag(
        "tt:Multicast", address("tt:Address", place), tag("tt:Port", port), tag("tt:TTL", hops), tag("tt:AutoStart", starts)
    )


def _multicast_of(config: Element | None, old: Multicast) -> Multicast:
    """What a configuration wants; what it leaves out stays. Raises Fault."""
    told = tree.find(config, "Multicast")
    if told is None:
        return old
    place = tree.text(told, "Address", "IPv4Address") or tree.text(told, "Address", "IPv6Address") or old[0]
    port, hops = tree.whole(tree.text(told, "Port")), tree.whole(tree.text(told, "TTL"))
    starts = tree.yes(tree.text(told, "AutoStart"))
    try:
        group = ipaddress.ip_address(place)
    except ValueError:
        raise OnvifFault("InvalidArgVal/ConfigModify", "no such multicast address") from None
    if not (group.is_multicast or group.is_unspecified) or not 0 <= (port or 0) <= 65535:
        raise OnvifFault("InvalidArgVal/ConfigModify", "no such multicast address")
    return place, old[1] if port is None else port, old[2] if hops is None else hops, old[3] if starts is None else starts


def _timeout_of(config: Element | None, old: str) -> str:
    said = tree.text(config, "SessionTimeout")
    if said and not re.fullmatch(r"P(?=.)(\d+D)?(T(?=.)(\d+H)?(\d+M)?(\d+(\.\d+)?S)?)?", said):
        raise OnvifFault("InvalidArgVal/ConfigModify", "no such session timeout")
    return said or old


def _resolution(name: str, size: tuple[int, int]) -> str:
    return tag(name, tag("tt:Width", size[0]), tag("tt:Height", size[1]))


def _coder1(name: str, coder: Coder) -> str:
    control = tag(
        "tt:RateControl",
        tag("tt:FrameRateLimit", round(coder.rate)),
        tag("tt:EncodingInterval", 1),
        tag("tt:BitrateLimit", coder.bitrate),
    )
    h264 = (
        tag("tt:H264", tag("tt:GovLength", coder.gov), tag("tt:H264Profile", coder.profile))
        if coder.codec == "H264"
        else ""
    )
    encoding = coder.codec if coder.codec in ("H264", "JPEG") else "H264"  # Media has no word for H.265
    return tag(
        name, tag("tt:Name", coder.token), tag("tt:UseCount", 1), tag("tt:Encoding", encoding), _resolution("tt:Resolution", coder.size),
        tag("tt:Quality", coder.quality), control, h264, _multicast(coder.multicast), tag("tt:SessionTimeout", coder.timeout), token=coder.token,
    )  # fmt: skip


def _coder2(name: str, coder: Coder) -> str:
    control = tag(
        "tt:RateControl",
        tag("tt:FrameRateLimit", coder.rate),
        tag("tt:BitrateLimit", coder.bitrate),
        ConstantBitRate=coder.constant,
    )
    return tag(
        name, tag("tt:Name", coder.token), tag("tt:UseCount", 1), tag("tt:Encoding", coder.codec), _resolution("tt:Resolution", coder.size),
        control, _multicast(coder.multicast), tag("tt:Quality", coder.quality), token=coder.token, GovLength=coder.gov, Profile=coder.profile,
    )  # fmt: skip


def _bounds(camera: Camera) -> str:
    x, y, width, height = camera.bounds
    return f'<tt:Bounds x="{x}" y="{y}" width="{width}" height="{height}"/>'


def _source_config(camera: Camera, name: str) -> str:
    return tag(
        name,
        tag("tt:Name", "sensor"),
        tag("tt:UseCount", 2),
        tag("tt:SourceToken", "sensor0"),
        _bounds(camera),
        token="sc0",
    )


def _sound1(camera: Camera, name: str) -> str:
    sound = camera.sound
    return tag(
        name, tag("tt:Name", "sound"), tag("tt:UseCount", 1), tag("tt:Encoding", sound.codec), tag("tt:Bitrate", sound.bitrate),
        tag("tt:SampleRate", sound.rate), _multicast(sound.multicast), tag("tt:SessionTimeout", sound.timeout), token="ae0",
    )  # fmt: skip


def _sound2(camera: Camera, name: str) -> str:
    sound = camera.sound
    encoding = {"AAC": "MP4A-LATM", "G711": "PCMU"}[sound.codec]
    return tag(
        name, tag("tt:Name", "sound"), tag("tt:UseCount", 1), tag("tt:Encoding", encoding), _multicast(sound.multicast),
        tag("tt:Bitrate", sound.bitrate), tag("tt:SampleRate", sound.rate), token="ae0",
    )  # fmt: skip


def _sound_source(name: str) -> str:
    return tag(name, tag("tt:Name", "microphone"), tag("tt:UseCount", 1), tag("tt:SourceToken", "mic0"), token="as0")


def _ptz_config(name: str) -> str:
    return tag(name, tag("tt:Name", "head"), tag("tt:UseCount", 1), tag("tt:NodeToken", "node0"), token="ptz0")


def _profile1(camera: Camera, stream: ProfileStream, name: str) -> str:
    sound = _sound_source("tt:AudioSourceConfiguration") if stream.sound else ""
    return tag(
        name, tag("tt:Name", stream.name), _source_config(camera, "tt:VideoSourceConfiguration"), sound,
        _coder1("tt:VideoEncoderConfiguration", stream.coder), _sound1(camera, "tt:AudioEncoderConfiguration") if stream.sound else "",
        _ptz_config("tt:PTZConfiguration") if camera.make.presets else "", token=stream.token, fixed=True,
    )  # fmt: skip


def _profiles1(camera: Camera, body: Element, base: str) -> str:
    return "".join(_profile1(camera, stream, "trt:Profiles") for stream in camera.streams.values())


def _profiles2(camera: Camera, body: Element, base: str) -> str:
    token = tree.text(body, "Token")
    if token and token not in camera.streams:
        raise OnvifFault("InvalidArgVal/NoProfile", "no such profile")
    types = {tree.text(one) for one in tree.children(body, "Type")}
    strange = types - {"All", "VideoSource", "VideoEncoder", "AudioSource", "AudioEncoder", "AudioOutput", "AudioDecoder", "Metadata", "Analytics",
                       "PTZ", "Receiver"}  # fmt: skip
    if strange:
        raise OnvifFault("InvalidArgVal", "no such type of configuration")
    out = ""
    for stream in camera.streams.values():
        if token not in ("", stream.token):
            continue
        parts = {
            "VideoSource": _source_config(camera, "tr2:VideoSource"), "AudioSource": _sound_source("tr2:AudioSource") if stream.sound else "",
            "VideoEncoder": _coder2("tr2:VideoEncoder", stream.coder), "AudioEncoder": _sound2(camera, "tr2:AudioEncoder") if stream.sound else "",
            "PTZ": _ptz_config("tr2:PTZ") if camera.make.presets else "",
        }  # fmt: skip
        wanted = [text for kind, text in parts.items() if types & {"All", kind}]
        inner = tag("tr2:Configurations", *wanted) if types else ""  # Media2, 5.1.3: only those that are asked for
        out += tag("tr2:Profiles", tag("tr2:Name", stream.name), inner, token=stream.token, fixed=True)
    return out


def _stream_of(camera: Camera, body: Element) -> ProfileStream:
    """The stream whose encoder or profile a request names. Raises Fault."""
    coder, profile = tree.text(body, "ConfigurationToken"), tree.text(body, "ProfileToken")
    for stream in camera.streams.values():
        if coder in ("", stream.coder.token) and profile in ("", stream.token):
            return stream
    raise OnvifFault("InvalidArgVal/NoConfig", "no such configuration")


def _range(name: str, low: float, high: float) -> str:
    return tag(name, tag("tt:Min", low), tag("tt:Max", high))


def _offer1(offer: EncodingOffer, *, extended: bool) -> str:
    sizes = "".join(_resolution("tt:ResolutionsAvailable", size) for size in offer.sizes)
    rates = _range("tt:FrameRateRange", round(min(offer.rates)), round(max(offer.rates))) + _range(
        "tt:EncodingIntervalRange", 1, 1
    )
    bitrate = _range("tt:BitrateRange", *offer.bitrate) if extended else ""
    if offer.codec == "JPEG":
        return tag("tt:JPEG", sizes, rates, bitrate)
    profiles = "".join(tag("tt:H264ProfilesSupported", name) for name in offer.profiles)
    return tag("tt:H264", sizes, _range("tt:GovLengthRange", *offer.gov), rates, profiles, bitrate)


def _options1(camera: Camera, body: Element, base: str) -> str:
    offers = [offer for offer in _stream_of(camera, body).offers if offer.codec in ("JPEG", "H264")]
    offers.sort(key=lambda offer: offer.codec != "JPEG")
    plain = "".join(_offer1(offer, extended=False) for offer in offers)
    extension = tag("tt:Extension", "".join(_offer1(offer, extended=True) for offer in offers))
    return tag("trt:Options", _range("tt:QualityRange", 1, 6), plain, extension)


def _options2(camera: Camera, body: Element, base: str) -> str:
    out = ""
    for offer in _stream_of(camera, body).offers:
        more: dict[str, object] = {}
        if offer.codec != "JPEG":
            more = {"GovLengthRange": f"{offer.gov[0]} {offer.gov[1]}", "ProfilesSupported": " ".join(offer.profiles)}
        out += tag(
            "tr2:Options", tag("tt:Encoding", offer.codec), _range("tt:QualityRange", 1, 6),
            *(_resolution("tt:ResolutionsAvailable", size) for size in offer.sizes), _range("tt:BitrateRange", *offer.bitrate),
            **more, FrameRatesSupported=" ".join(text_of(float(rate)) for rate in offer.rates), ConstantBitRateSupported=offer.constant,
        )  # fmt: skip
    return out


def _set_coder(camera: Camera, body: Element, second: bool) -> str:
    """What both media services do; nothing is changed where something is refused."""
    config = tree.find(body, "Configuration")
    token = tree.attribute(config, "token")
    stream = next((s for s in camera.streams.values() if s.coder.token == token), None)
    if stream is None or config is None:
        raise OnvifFault("InvalidArgVal/NoConfig", "no such configuration")
    codec = tree.text(config, "Encoding")
    offer = next((o for o in stream.offers if o.codec == codec), None)
    if offer is None:
        raise OnvifFault("InvalidArgVal/ConfigModify", f"{codec} is not offered")
    inner = tree.find(config, "H264")
    size = (
        tree.whole(tree.text(config, "Resolution", "Width")) or 0,
        tree.whole(tree.text(config, "Resolution", "Height")) or 0,
    )
    rate = tree.number(tree.text(config, "RateControl", "FrameRateLimit")) or stream.coder.rate
    bitrate = tree.whole(tree.text(config, "RateControl", "BitrateLimit")) or stream.coder.bitrate
    gov = (
        tree.whole(tree.attribute(config, "GovLength") if second else tree.text(inner, "GovLength")) or stream.coder.gov
    )
    profile = (tree.attribute(config, "Profile") if second else tree.text(inner, "H264Profile")) or stream.coder.profile
    checks = (
        (size in offer.sizes, "the resolution is not offered"),
        (any(abs(rate - r) < 0.01 for r in offer.rates), "the frame rate is not offered"),
        (offer.bitrate[0] <= bitrate <= offer.bitrate[1], "the bitrate is out of range"),
        (codec == "JPEG" or offer.gov[0] <= gov <= offer.gov[1], "GovLength is out of range"),
        (codec == "JPEG" or profile in offer.profiles, "the profile is not offered"),
        (size[0] * size[1] <= 1920 * 1080 or rate <= 20, "more than 1920x1080 is coded at 20 fps at most"),
    )
    for good, words in checks:
        if not good:
            raise OnvifFault("InvalidArgVal/ConfigModify", words)
    clamp, sticky = camera.faults.clamps, camera.faults.sticky
    new: dict[str, object] = {
        "size": size, "rate": rate, "bitrate": bitrate, "gov": gov, "profile": profile, "codec": codec,
        "quality": tree.number(tree.text(config, "Quality")) or stream.coder.quality, "timeout": _timeout_of(config, stream.coder.timeout),
        "multicast": _multicast_of(config, stream.coder.multicast),
    }  # fmt: skip
    if second:
        told = tree.yes(tree.attribute(tree.find(config, "RateControl"), "ConstantBitRate"))
        new["constant"] = stream.coder.constant if told is None else told
    for name, value in new.items():
        if name not in sticky:
            limit = clamp.get(name)
            setattr(stream.coder, name, min(value, type(value)(limit)) if limit is not None else value)  # type: ignore[call-arg, call-overload]
    return ""


def _sound_options(camera: Camera, body: Element, base: str) -> str:
    """Of both services: they differ in names only."""
    _known_sound(camera, body)
    second = tree.namespace(body) == SPACES["tr2"]
    names = {"AAC": "MP4A-LATM", "G711": "PCMU"} if second else {"AAC": "AAC", "G711": "G711"}
    out = "".join(
        tag("tr2:Options" if second else "tt:Options", tag("tt:Encoding", names[offer.codec]),
            tag("tt:BitrateList", *(tag("tt:Items", b) for b in offer.bitrates)),
            tag("tt:SampleRateList", *(tag("tt:Items", r) for r in offer.rates))) for offer in camera.make.sound_offers
    )  # fmt: skip
    return out if second else tag("trt:Options", out)


def _set_sound(camera: Camera, body: Element, base: str) -> str:
    config = tree.find(body, "Configuration")
    if tree.attribute(config, "token") != "ae0" or not camera.make.sound_offers:
        raise OnvifFault("InvalidArgVal/NoConfig", "no such configuration")
    codec = {"MP4A-LATM": "AAC", "PCMU": "G711"}.get(tree.text(config, "Encoding"), tree.text(config, "Encoding"))
    bitrate, rate = tree.whole(tree.text(config, "Bitrate")), tree.whole(tree.text(config, "SampleRate"))
    offer = next((o for o in camera.make.sound_offers if o.codec == codec), None)
    if offer is None or bitrate not in offer.bitrates or rate not in offer.rates:
        raise OnvifFault("InvalidArgVal/ConfigModify", "this sound is not offered")
    sound = camera.sound
    sound.multicast, sound.timeout = _multicast_of(config, sound.multicast), _timeout_of(config, sound.timeout)
    camera.sound.codec, camera.sound.bitrate, camera.sound.rate = codec, bitrate, rate
    return ""


def _no_sound(camera: Camera) -> None:
    if not camera.make.sound_offers:
        raise OnvifFault("ActionNotSupported/AudioNotSupported", "this camera has no sound", receiver=True)


def _known_sound(camera: Camera, body: Element) -> None:
    """Raises Fault for tokens that nobody has."""
    if tree.text(body, "ConfigurationToken") not in ("", "ae0"):
        raise OnvifFault("InvalidArgVal/NoConfig", "no such configuration")
    if (profile := tree.text(body, "ProfileToken")) and profile not in camera.streams:
        raise OnvifFault("InvalidArgVal/NoProfile", "no such profile")


def _one_sound(camera: Camera, body: Element, base: str) -> str:
    _no_sound(camera)
    if tree.text(body, "ConfigurationToken") != "ae0":
        raise OnvifFault("InvalidArgVal/NoConfig", "no such configuration")
    return _sound1(camera, "trt:Configuration")


def _sounds(camera: Camera, body: Element, base: str) -> str:
    _no_sound(camera)
    _known_sound(camera, body)
    if tree.namespace(body) == SPACES["tr2"]:
        return _sound2(camera, "tr2:Configurations")
    return _sound1(camera, "trt:Configurations")


def _sound_sources(camera: Camera, body: Element, base: str) -> str:
    _no_sound(camera)
    return _sound_source("tr2:Configurations" if tree.namespace(body) == SPACES["tr2"] else "trt:Configurations")


def _profile(camera: Camera, body: Element) -> ProfileStream:
    stream = camera.streams.get(tree.text(body, "ProfileToken"))
    if stream is None:
        raise OnvifFault("InvalidArgVal/NoProfile", "no such profile")
    return stream


def _add(camera: Camera, body: Element, base: str) -> str:
    stream = _profile(camera, body)
    if tree.namespace(body) == SPACES["tr2"]:
        kinds = [tree.text(one, "Type") for one in tree.children(body, "Configuration")]
    else:
        kinds = ["AudioEncoder" if "Encoder" in tree.local(body) else "AudioSource"]
    if "AudioEncoder" in kinds:
        _no_sound(camera)
        stream.sound = True
    return ""


def _remove(camera: Camera, body: Element, base: str) -> str:
    _profile(camera, body).sound = False
    return ""


def _video_sources(camera: Camera, body: Element, base: str) -> str:
    inner = tag("tt:Framerate", camera.make.sensor_rate), _resolution("tt:Resolution", camera.make.sensor)
    return tag("trt:VideoSources", *inner, token="sensor0")


def _snapshot(camera: Camera, body: Element, base: str) -> str:
    address = f"{base}/picture/{_profile(camera, body).token}.jpg"
    if tree.namespace(body) == SPACES["tr2"]:
        return tag("tr2:Uri", address)
    return tag("trt:MediaUri", _media_uri(address))


def _media_uri(address: str) -> str:
    flags = tag("tt:InvalidAfterConnect", False) + tag("tt:InvalidAfterReboot", False)
    return tag("tt:Uri", address) + flags + tag("tt:Timeout", "PT0S")


def _stream(camera: Camera, body: Element, base: str) -> str:
    host = base.partition("://")[2].rpartition(":")[0]
    address = f"rtsp://{host}:{camera.rtsp.port}/{_profile(camera, body).token}"
    if tree.namespace(body) == SPACES["tr2"]:
        return tag("tr2:Uri", address)
    return tag("trt:MediaUri", _media_uri(address))


# Positions


def _presets(camera: Camera, body: Element, base: str) -> str:
    _profile(camera, body)
    return "".join(tag("tptz:Preset", tag("tt:Name", name), token=token) for token, name in camera.presets.items())


def _goto(camera: Camera, body: Element, base: str) -> str:
    _profile(camera, body)
    token = tree.text(body, "PresetToken")
    if token not in camera.presets:
        raise OnvifFault("InvalidArgVal/NoToken", "no such position")
    camera.position = token
    return ""


def _store(camera: Camera, body: Element, base: str) -> str:
    _profile(camera, body)
    token = tree.text(body, "PresetToken")
    if token and token not in camera.presets:
        raise OnvifFault("InvalidArgVal/NoToken", "no such position")
    token = token or next(f"p{n}" for n in range(1, len(camera.presets) + 2) if f"p{n}" not in camera.presets)
    camera.presets[token] = tree.text(body, "PresetName") or token
    return tag("tptz:PresetToken", token)


def _drop(camera: Camera, body: Element, base: str) -> str:
    _profile(camera, body)
    token = tree.text(body, "PresetToken")
    if token not in camera.presets:
        raise OnvifFault("InvalidArgVal/NoToken", "no such position")
    del camera.presets[token]
    return ""


def _media_abilities(camera: Camera, body: Element, base: str) -> str:
    count = len(camera.streams)
    if tree.namespace(body) == SPACES["tr2"]:
        kinds = "VideoSource VideoEncoder AudioSource AudioEncoder"
        profiles = f'<tr2:ProfileCapabilities MaximumNumberOfProfiles="{count}" ConfigurationsSupported="{kinds}"/>'
        return tag("tr2:Capabilities", profiles, '<tr2:StreamingCapabilities RTSPStreaming="true"/>', SnapshotUri=True)
    profiles = f'<trt:ProfileCapabilities MaximumNumberOfProfiles="{count}"/>'
    return tag("trt:Capabilities", profiles, '<trt:StreamingCapabilities RTP_RTSP_TCP="true"/>', SnapshotUri=True)


def _one_profile(camera: Camera, body: Element, base: str) -> str:
    wanted = _profile(camera, body)
    return _profile1(camera, wanted, "trt:Profile")


def _source_configs(camera: Camera, body: Element, base: str) -> str:
    prefix = "tr2" if tree.namespace(body) == SPACES["tr2"] else "trt"
    return _source_config(camera, f"{prefix}:Configurations")


def _microphones(camera: Camera, body: Element, base: str) -> str:
    _no_sound(camera)
    return tag("trt:AudioSources", tag("tt:Channels", 2), token="mic0")


def _ptz_abilities(camera: Camera, body: Element, base: str) -> str:
    return tag("tptz:Capabilities")


def _nodes(camera: Camera, body: Element, base: str) -> str:
    inner = (
        tag("tt:Name", "head"),
        tag("tt:SupportedPTZSpaces"),
        tag("tt:MaximumNumberOfPresets", 64),
        tag("tt:HomeSupported", False),
    )
    return tag("tptz:PTZNode", *inner, token="node0")


def _ptz_configs(camera: Camera, body: Element, base: str) -> str:
    return _ptz_config("tptz:PTZConfiguration")


def _ptz_status(camera: Camera, body: Element, base: str) -> str:
    _profile(camera, body)
    return tag(
        "tptz:PTZStatus",
        tag("tt:MoveStatus", tag("tt:PanTilt", "IDLE")),
        tag("tt:UtcTime", f"{camera.now():%Y-%m-%dT%H:%M:%SZ}"),
    )


def _coders(write: Callable[[str, Coder], str], name: str, *, one: bool) -> Operation:
    def answer(camera: Camera, body: Element, base: str) -> str:
        if tree.text(body, "ConfigurationToken"):
            return write(name, _stream_of(camera, body).coder)
        if one:
            raise OnvifFault("InvalidArgVal/NoConfig", "no such configuration")
        return "".join(write(name, stream.coder) for stream in camera.streams.values())

    return answer


OPERATIONS: dict[str, Operation] = {
    "trt:GetProfiles": _profiles1,
    "trt:GetVideoEncoderConfigurationOptions": _options1,
    "trt:GetVideoEncoderConfiguration": _coders(_coder1, "trt:Configuration", one=True),
    "trt:GetVideoEncoderConfigurations": _coders(_coder1, "trt:Configurations", one=False),
    "trt:SetVideoEncoderConfiguration": lambda camera, body, base: _set_coder(camera, body, False),
    "trt:GetAudioEncoderConfigurationOptions": _sound_options,
    "trt:SetAudioEncoderConfiguration": _set_sound,
    "trt:GetCompatibleAudioEncoderConfigurations": _sounds,
    "trt:GetAudioEncoderConfigurations": _sounds,
    "trt:GetAudioEncoderConfiguration": _one_sound,
    "trt:GetAudioSourceConfigurations": _sound_sources,
    "trt:AddAudioEncoderConfiguration": _add,
    "trt:AddAudioSourceConfiguration": _add,
    "trt:RemoveAudioEncoderConfiguration": _remove,
    "trt:GetVideoSources": _video_sources,
    "trt:GetSnapshotUri": _snapshot,
    "trt:GetStreamUri": _stream,
    "tr2:GetProfiles": _profiles2,
    "tr2:GetVideoEncoderConfigurationOptions": _options2,
    "tr2:GetVideoEncoderConfigurations": _coders(_coder2, "tr2:Configurations", one=False),
    "tr2:SetVideoEncoderConfiguration": lambda camera, body, base: _set_coder(camera, body, True),
    "tr2:GetAudioEncoderConfigurationOptions": _sound_options,
    "tr2:SetAudioEncoderConfiguration": _set_sound,
    "tr2:GetAudioEncoderConfigurations": _sounds,
    "tr2:GetAudioSourceConfigurations": _sound_sources,
    "tr2:AddConfiguration": _add,
    "tr2:RemoveConfiguration": _remove,
    "tr2:GetSnapshotUri": _snapshot,
    "tr2:GetStreamUri": _stream,
    "trt:GetServiceCapabilities": _media_abilities,
    "trt:GetProfile": _one_profile,
    "trt:GetVideoSourceConfigurations": _source_configs,
    "trt:GetAudioSources": _microphones,
    "tr2:GetServiceCapabilities": _media_abilities,
    "tr2:GetVideoSourceConfigurations": _source_configs,
    "tptz:GetServiceCapabilities": _ptz_abilities,
    "tptz:GetNodes": _nodes,
    "tptz:GetConfigurations": _ptz_configs,
    "tptz:GetStatus": _ptz_status,
    "tptz:GetPresets": _presets,
    "tptz:GotoPreset": _goto,
    "tptz:SetPreset": _store,
    "tptz:RemovePreset": _drop,
}
