"""Driver files to begin with: one for each shape of interface, with what to fill in."""

from __future__ import annotations

from typing import Literal

Shape = Literal["json", "xml", "lines", "onvif", "hand"]
SHAPES: tuple[Shape, ...] = ("json", "xml", "lines", "onvif", "hand")

_HEAD = """\
# {title}: what its HTTP interface looks like. docs/drivers.md explains every entry.
# Check it with: direkt driver lint {file}; try it with: direkt driver try {file} http://ADDRESS --login env:DIREKT_LOGIN
schema: direkt.driver/1
kind: {kind}
title: {title}
fits: {{make: "", model: ""}}        # as the device calls itself; then find knows it
"""
_SETTINGS = """\
settings:                           # the table's parameters (docs/parameters.md): where each stands, in which words and units
  video.codec: {{at: {p}codec{s}, words: {{h264: "H.264", h265: "H.265"}}}}
  video.profile: {{at: {p}profile{s}, words: {{main: "Main", high: "High"}}}}
  video.size: {{at: {p}size{s}}}
  video.frame_rate: {{at: {p}fps{s}}}
  video.bitrate.mean: {{at: {p}bitrate{s}, unit: kbit/s, whole: true}}
  video.keyframe_interval.median: {{at: {p}gop{s}, unit: frames}}      # or unit: s
  audio.present: {{at: {p}audio{s}, words: {{"yes": "on", "no": "off"}}}}
limits:                             # what can be chosen, in the table's words and units
  video.codec: [h264]
  video.profile: [main, high]
  video.size: [1920x1080, 1280x720]
  video.frame_rate: [25, 50]
  video.bitrate.mean: {{min: 500, max: 12000}}
  video.keyframe_interval.median: {{min: 0.5, max: 10}}
  audio.present: ["yes", "no"]
"""
_SLOTS = """\
slots:                              # where a push goes; leave it out where the device has none
  form: url+key                     # or url, or parts
  server: {p}push{m}server{s}
  key: {p}push{m}key{s}
  state: {p}push{m}state{s}
  states: {{stopped: "idle", pushing: "live", retrying: "retry"}}     # ours: the device's
  message: {p}push{m}message{s}
refusals: {{}}                        # the whole answer is the reason
"""
_JSON = """\
login: any                          # digest, basic or none, where it must be one of them
answers: json
requests:
  state: GET /api/state
  write: {send: PUT /api/state, coding: json}
  write_slot: {send: PUT /api/state, coding: json}
  push_on: {send: POST /api/push/start, coding: none}
  push_off: {send: POST /api/push/stop, coding: none}
facts: {model: /model, firmware: /firmware}
channels:
  main: ""                          # where the channel's settings stand; empty: at the top
"""
_XML = _JSON.replace("answers: json", "answers: xml").replace("coding: json", "coding: xml, root: settings").replace(
    "{model: /model, firmware: /firmware}", '{model: "@model", firmware: "@firmware"}'
)  # fmt: skip
_LINES = _JSON.replace("answers: json", "answers: lines").replace("coding: json", "coding: form").replace(
    "{model: /model, firmware: /firmware}", "{model: model, firmware: firmware}"
)  # fmt: skip
_ONVIF = """\
push: {from_firmware: ""}           # the first firmware that pushes; never: true where none does
answers: lines
coding: form
requests:                           # only for what ONVIF does not cover
  state: GET /push
  write_slot: {send: POST /push, fields: {address: "{url}"}}
  push_on: {send: POST /push, fields: {run: "on"}}
  push_off: {send: POST /push, fields: {run: "off"}}
slots:
  form: url
  fields: {url: address}
  state: state
  states: {stopped: "off", pushing: "on"}
refusals: {}
"""


_HAND = """\
# {title}: a device that no program can reach; its setup card says what to enter. docs/drivers.md explains every entry.
# Check it with: direkt driver lint {file}; look at its card with: direkt card FEED
schema: direkt.driver/1
kind: hand
title: {title}
fits: {{make: "", model: ""}}
channels: {{main: {{}}}}
modes:                              # one line of its menu that stands for several parameters; leave it out where there is none
  - at: QUALITY
    words:
      HIGH: {{video.size: 1920x1080, video.frame_rate: 25, video.bitrate.mean: 5000}}
      LOW: {{video.size: 1280x720, video.frame_rate: 25, video.bitrate.mean: 2500}}
settings:                           # at: what stands on its screen; words: ours, then the device's
  audio.present: {{at: SOUND, words: {{"yes": "ON", "no": "OFF"}}}}
limits:                             # what it can be, in the table's words and units; one value alone: it is always so
  video.codec: h264
  video.keyframe_interval.median: 2
  audio.present: ["yes", "no"]
  audio.codec: aac
menus:                              # where a person finds it, in the order of the menus
  QUALITY: [Menu, Stream, QUALITY]
  audio.present: [Menu, Stream, SOUND]
  push.server: [Menu, Stream, Server]
  push.key: [Menu, Stream, Key]
  push.start: [Menu, Stream, Start]
card:
  start: "on"
  longest: {{server: 128, key: 64}}   # characters that fit
  before: []                        # what to do first
  after: []                         # and when it is over
"""


def make(shape: Shape, title: str, file: str) -> str:
    """A driver file that is valid and describes no device yet."""
    if shape == "hand":
        return _HAND.format(title=title, file=file)
    head = _HEAD.format(title=title, file=file, kind="onvif" if shape == "onvif" else "http")
    if shape == "onvif":
        return head + _ONVIF
    start, between = ("/", "/") if shape == "json" else ("", "/" if shape == "xml" else ".")
    places = {"p": start, "m": between, "s": ""}
    body = {"json": _JSON, "xml": _XML, "lines": _LINES}[shape]
    return head + body + _SETTINGS.format(**places) + _SLOTS.format(**places)
