"""A commented skeleton of a sheet, for ``direkt sheet new``."""

from direkt.protocol.schemes import PORTS

_TEXT = """\
# An ingest sheet. Delete what the platform does not state; every line is checked: direkt sheet lint FILE
schema: direkt.sheet/1
name: My Platform
summary: One line on what this destination is.
# extends: other-sheet.yaml         # take everything from another sheet, and change only what stands here

protocols:                          # and their ports
  - {protocol: rtmp, port: @rtmp@}
#   - {protocol: rtmps, port: @rtmps@}
#   - {protocol: srt, port: 9710, mode: caller, latency_ms: {min: 250, best: 800}, passphrase: required, stream_id: the stream key}
servers:                            # every address, by region; role: primary or backup
  - {address: rtmp://ingest.my-platform.example/live, region: north}

rules:                              # must: demanded; should: recommended; a value, [a list] or {min: , max: }; never: a value or [a list]
  video.codec: {must: h264}
  video.profile: {must: [main, high], should: high}
  video.size: {must: [1920x1080, 1280x720]}
  video.display_aspect: {must: "16:9"}
  video.scan: {must: progressive}
  video.frame_rate: {must: [25, 30, 50, 60]}        # 29.97 is not 30. Or: {same_as_source: true}
  video.keyframe_interval.median: {should: 1.5}     # s
  video.keyframe_interval.max: {must: {max: 3}, because: viewers can join only at a keyframe}
  video.rate_control: {should: cbr}
  audio.present: {must: "yes"}
  audio.codec: {must: aac}
  audio.profile: {must: lc}
  audio.sample_rate: {must: [44100, 48000], should: 48000}
  audio.channels: {must: [1, 2], should: 2}

ladder:                             # video bitrate in kbit/s, for pictures up to a size at some frame rates; codec: h265 where it holds for that one only
  - {size: 1920x1080, frame_rate: {min: 40, max: 60}, bitrate: {min: 4500, best: 6500, max: 9000}}
  - {size: 1920x1080, frame_rate: {min: 20, max: 30}, bitrate: {min: 3000, best: 4500, max: 6000}}
  - {size: 1280x720, frame_rate: {min: 20, max: 60}, bitrate: {min: 1500, best: 2500, max: 4500}}
# peak_percent: 30                 # how far any second may rise above the mean
audio_ladder:                       # audio bitrate in kbit/s by channels
  - {channels: 1, bitrate: {min: 48, best: 96, max: 128}}
  - {channels: 2, bitrate: {min: 96, best: 160, max: 256}}

# latency:                          # modes, and what each changes; used as my-platform.yaml:low
#   low:
#     summary: talk with the audience
#     viewers_behind_s: {min: 3, max: 6}
#     rules:
#       video.keyframe_interval.max: {must: {max: 1.5}}
#       video.b_frames: {must: 0}
# spherical: {taken: true, projections: [equirectangular], display_aspects: ["2:1"], mark_event: true}

# session:
#   longest_hours: 7
#   shows_after_s: {min: 9, max: 27}          # so that nobody gives up too early
#   opens: by hand before the push            # or: by itself
#   after_stop: same key                      # or: new key
#   lead_time_hours: 30                       # until a new account may stream
# key:
#   pattern: "my~[a-z]{8}"                    # a regular expression for the whole key
#   lives: one event                          # or: for good

checklist:                          # what only a person can do at the platform, in order
  - {step: Create the event, when: the day before}
  - {step: Open the event, when: a quarter of an hour before the push}
"""

SKELETON = _TEXT.replace("@rtmp@", str(PORTS["rtmp"])).replace("@rtmps@", str(PORTS["rtmps"]))
