"""The words themselves: term | how else it is written | what it is | what to choose | what it is mixed up with."""
TEXT = """\
baseline|BP, baseline profile, base|The smallest set of H.264 tools: no B-frames, no CABAC. Needs more bits for the same picture.|Choose main or high unless the sheet asks for baseline.|"BP" on a device's page is baseline profile, not bits per picture.
constrained-baseline|CBP, constrained baseline|Baseline without its rarely supported parts; what nearly every "baseline" stream truly is.|The same as baseline for all players.|
main|MP, main profile|H.264 with B-frames, CABAC and interlaced tools.|A safe choice for every platform.|"MP" is main profile here, not megapixels.
high|HP, HiP, high profile|H.264 main with larger transforms; about a tenth fewer bits for the same picture.|Choose it for HD when the sheet allows it.|"HP" is high profile.
main10|Main 10|A profile of H.265 with 10 bits.|Not for ingests that ask for H.264.|
h264|H.264, AVC, MPEG-4 part 10, avc1|The video codec that every ingest takes.|Choose it unless the sheet asks for another.|MPEG-4 on an old device's page may mean part 2, which is another codec.
h265|H.265, HEVC, hvc1|A newer codec; half the bits, but many ingests refuse it over RTMP.|Turn it off, with any "+" or "smart" variant, unless the sheet names it.|A device may switch to it by itself in an "adaptive" mode.
av1|AOMedia Video 1, av01|A newer, royalty-free codec.|Only where the sheet names it.|
adaptive codec|smart codec, smart encoding|A device's own mode that stretches keyframes and lowers the bitrate when little moves.|Turn it off for live platforms: keyframe interval and bitrate no longer hold.|
cbr|CBR, constant bitrate|The bitrate is held in every second, with filler if need be.|Choose it for live pushes: uplink and ingest like a steady flow.|CBR sets a rate, VBR a quality; "CVBR" is VBR with a ceiling.
vbr|VBR, variable bitrate, CVBR, ABR|The bitrate follows the picture: busy scenes take more.|Fine for recording; for live set the ceiling below the uplink.|A VBR "target" of 6 Mbit/s may peak at twice that.
bitrate|data rate, bit rate, bandwidth|How many bits a second the stream takes.|As the sheet's ladder says for the picture size and frame rate.|kbit/s and kB/s differ by 8; 1 Mbit/s = 1000 kbit/s = 125 kB/s.
kbit/s|kbps, kb/s, kilobit|A thousand bits a second.||Small b is bit, large B is byte: 8 kbit/s = 1 kB/s.
Mbit/s|Mbps, Mb/s, megabit|A million bits a second, 1000 kbit/s.||A field in kbit/s takes 6000 for 6 Mbit/s; typing 6 there ruins the picture.
kB/s|KBps, kilobyte, kB|A thousand bytes a second, 8 kbit/s.||Download meters show kB/s or MB/s; ingests speak of kbit/s.
keyframe|I-frame, IDR, key picture, intra frame|A picture that needs no other one. Viewers can join only there.|An interval of 2 s suits most ingests.|In H.264 only an IDR picture is a true keyframe; an I-frame alone may not be.
keyframe interval|GOP length, GOP size, I-frame interval, key interval, intra period|The time or number of pictures from one keyframe to the next.|2 s unless the sheet says otherwise; low latency asks for 1 s.|Frames here, seconds there: 2 s at 50 fps is 100 frames, at 25 fps it is 50.
gop|GOP, group of pictures|A keyframe and all pictures up to the next.|Closed, and of fixed length.|
closed gop|closed GOP|No picture looks across the keyframe, so a stream can be cut there.|Choose closed.|
b-frame|B-frame, bidirectional, B picture|A picture that looks forward and back: fewer bits, more delay.|0 for low latency, up to 2 otherwise.|
p-frame|P-frame, predicted|A picture that looks back only.||
reference frames|refs, ref frames, DPB|How many pictures the decoder keeps to look at.|1 to 4; more costs the decoder memory.|
level|H.264 level, 3.1, 4.0, 4.1, 4.2, 5.1|A ceiling on picture size, pictures a second and bitrate that the stream declares.|Automatic. 3.1 carries 720p30, 4.0 1080p30, 4.2 1080p60.|A level is no quality; a higher one makes nothing better.
profile|encoding profile|The set of tools that a stream may use.|High or main.|On some pages "profile" is a whole preset of settings.
preset|encoder preset, scene|A named bundle of settings.|Check every value after you load one.|
cabac|CABAC, arithmetic coding|The denser way to pack H.264's bits; main and high only.|On, when there is the choice.|
cavlc|CAVLC|The simpler way to pack H.264's bits.|Only with baseline.|
frame rate|fps, frames per second, Hz|Pictures a second.|The input's own or exactly half.|29.97 is 30000/1001, not 30; 59.94 is not 60.
29.97|29,97, 30000/1001, NTSC|Thirty pictures, slowed by one in a thousand and one.|Only for inputs of 59.94 or 29.97.|Not 30: an ingest that wants 30 may refuse it.
50 Hz|PAL, 25p, 50p, 50 hertz|The family of 25 and 50 pictures a second.|Stay in the input's family: 25 from 50, not 30 from 50.|Lamps flicker when the shutter does not fit the mains.
progressive|p, 1080p, progressive scan|Whole pictures, one after the other.|Always for live platforms.|1080p50 and 1080i50 are different: the i has half pictures.
interlaced|i, 1080i, fields|Half pictures in turn: odd lines, even lines.|Not for live platforms; set the camera to p.|1080i50 is 25 whole pictures a second.
resolution|picture size, 1080p, 720p, full HD, HD|Width and height of the picture in pixels.|What the sheet allows, never larger than the input.|
sub stream|second stream, secondary, substream|A second, smaller encoding for previews.|Push the main stream.|A push slot that takes the wrong one sends a thumbnail-sized picture.
main stream|primary stream, main channel|The device's full-size encoding.|Push this one.|
16:9|wide, widescreen|The usual shape: 1920x1080, 1280x720.|Choose it.|1440x1080 is 16:9 only with wide pixels.
4:3|standard aspect|The old shape: 640x480, 1440x1080 with square pixels.|Avoid it: platforms add black sides.|
square pixels|SAR 1:1, PAR 1:1|A pixel as wide as high.|Choose sizes that have them.|
4:2:0|YUV420, chroma subsampling|Colour at half the sharpness both ways.|What ingests take.|4:2:2 is for production links.
bt.709|Rec.709, BT709|The colours of HD.|Choose it for HD.|
hdr|HDR, HDR10, HLG, PQ, log|Wider brightness than HD's.|Off, unless the sheet asks for it.|A log picture looks grey until it is graded.
full range|PC levels, 0-255|Black at 0, white at 255.|Limited range for video.|A wrong range looks washed out or crushed.
limited range|video levels, TV levels, 16-235|Black at 16, white at 235.|Choose it.|
aac|AAC, mp4a, advanced audio coding|The sound codec of live ingests.|AAC-LC.|Cameras often start with G.711, which ingests refuse.
aac-lc|LC, low complexity|The plain kind of AAC.|Choose it.|
he-aac|HE-AAC, AAC+, SBR|AAC for low bitrates, at half the inner sample rate.|Only below 64 kbit/s, and only where the sheet allows it.|
g.711|G711, PCMU, PCMA, u-law, a-law|A telephone codec.|Set AAC instead.|
sample rate|48 kHz, 44.1 kHz, sampling frequency|Sound samples a second.|48 kHz for video, unless the sheet says 44.1.|kHz, not kbit/s.
line in|line input, mic in, mic level|A loud input for mixers; a microphone input is far more sensitive.|Line for a mixer, mic for a microphone.|A microphone on a line input is nearly silent.
rtmp|RTMP, real time messaging protocol|How most encoders push to platforms, on port @rtmp@.|Use RTMPS where both ends have it.|The address is rtmp://, never http://.
rtmps|RTMPS, RTMP over TLS|RTMP inside TLS, on port @rtmps@: nobody on the way can read the key.|Prefer it.|The device's clock must be right, or the certificate looks invalid.
srt|SRT, secure reliable transport|A push over UDP that repairs losses.|For poor uplinks, where the ingest takes it.|
rtsp|RTSP|How a camera is asked for its stream: pull, not push.|Not for pushing to platforms.|
push|publish, contribution|The device connects and sends.||Pull is the opposite: somebody fetches from the device.
server address|server URL, ingest URL, stream URL, RTMP URL, RTMP address, server path|Where to push, without the key: rtmp://host/application.|Copy it, do not type it.|Some devices want address and key as one, joined by a slash.
stream key|stream name, key, play path|The password of the push.|Treat it as a password; renew it when others saw it.|It is not the server address, and a space at its end makes it wrong.
application|app, instance|The part of the server address behind the host.||"live" in rtmp://host/live.
digest login|digest authentication, digest|A login in which the password never travels.|Prefer it to basic.|A device set to digest refuses basic, and the reverse.
basic login|basic authentication|A login in which the password travels readable.|Only over https.|
uplink|upload, upstream|What the line carries upwards.|Use at most two thirds of what you measure.|Advertised figures are mostly the downlink.
latency|delay, glass to glass|From the lens to the viewer's screen.|Low only when there is a conversation; it costs robustness.|
jitter|frame jitter|Unevenness in time.||
overhead|protocol overhead|What TCP/IP, RTMP and TLS add to the bitrate.||
fps of keyframes|frames between keyframes|The keyframe interval counted in pictures.|Seconds times frame rate.|250 at 25 fps is 10 s.
bits per pixel|bpp|Bitrate divided by pixels a second: how much each pixel gets.|About 0.05 to 0.1 for H.264.|
tally|tally light, red light|The light that says a camera is on air.||
mtu|MTU, packet size|The largest packet of the network, mostly 1500 bytes.||
ntp|NTP, clock, time server|Sets the device's clock.|Set it: TLS and time stamps depend on it.|
restart|reboot|Switching a device off and on.|Some devices apply settings only then.|Settings that are shown may not be in the stream yet.
equirectangular|360, spherical, panorama|A whole sphere unrolled into a picture twice as wide as high.|Mark the event as spherical at the platform.|
constant quality|CRF, CQ, constant QP, quality mode|The encoder holds the picture's quality and lets the bitrate go where it must.|Not for a live push: nothing bounds the bitrate.|A quality number is no bitrate; smaller often means better.
quantiser|QP, quantizer, qp range|How coarsely the picture is rounded: 0 is finest, 51 coarsest in H.264.|Leave it on automatic.|A higher number is a worse picture.
maximum bitrate|max bitrate, peak bitrate, ceiling, bitrate cap|The most that VBR may take in busy scenes.|Set it below what the uplink carries.|It is no mean: with CBR only the one value counts.
buffer size|VBV, decoder buffer, CPB, vbv buffer|How many bits may pile up before the decoder takes them.|One to two seconds at the bitrate.|Counted in kbit, not in kbit/s.
filler|filler data, stuffing, padding|Bits without content that keep CBR level when the picture needs few.|Harmless; some ingests count on it.|
intra refresh|gradual refresh, GDR, rolling intra, periodic intra refresh|Keyframes spread over many pictures, column by column.|Off for platforms: they look for whole keyframes.|It spares the uplink peaks, and hides the keyframe interval.
scene change|scene cut, scenecut, scene change detection|An extra keyframe where the picture changes at once.|Off where the ingest wants an exact interval.|
slice|slices, slices per picture|A part of a picture that is coded by itself.|1, unless the device needs more to be fast enough.|
deblocking|deblocking filter, loop filter|Smooths the edges of blocks while coding.|On.|
lookahead|look ahead, look-ahead|The encoder looks at later pictures before it decides.|Off for low latency.|Each picture of it is delay.
encoder latency|encoding delay, low latency mode, zero latency|How long the encoder itself holds a picture.|Normal for broadcasts; low for conversations.|Low latency mostly means no B-frames and a worse picture.
region of interest|ROI, roi|A part of the picture that gets more bits.|Off.|
noise reduction|NR, 3DNR, DNR, denoise|Calms grain before coding, so that fewer bits are wasted.|Low or middle in poor light.|Too much smears what moves.
hardware encoding|hardware encoder, GPU encoding|A chip made for it does the coding.|Choose it where there is one.|
transcoding|transcode, re-encoding|Decoding and coding anew, with some loss.|The platform does it for its viewers; send it one good stream.|Remuxing copies without loss.
adaptive bitrate|adaptive streaming, bitrate ladder, renditions, multi-bitrate|Several sizes of one programme, of which each player takes what its line carries.|Leave it to the platform.|On a device's page it may mean that the encoder lowers its own bitrate when the line is bad.
dynamic bitrate|network adaptive, adaptive bitrate control, auto bitrate|The device lowers the bitrate when the line gets worse.|Useful on mobile lines; set a floor that the sheet allows.|
uhd|UHD, 4K, 2160p, ultra HD|3840x2160.|Only where sheet and uplink carry it.|Cinema's 4K is 4096x2160.
quad hd|QHD, 1440p, 2K|2560x1440.||Cinema's 2K is 2048x1080.
hd|HD, 720p, HD ready|1280x720.|A good size for uplinks of 5 Mbit/s and less.|
sd|SD, 576i, 480i, standard definition|The old television size: 720x576 or 720x480.|Only where nothing else is there.|Its pixels are not square.
anamorphic|non-square pixels, stretched|A picture stored narrower or wider than it is shown.|Choose square pixels.|
letterbox|black bars, pillarbox|Black bands that fill the screen around a picture of another shape.|Send the picture without them.|
portrait|vertical, 9:16|A picture higher than wide, for phones.|Only where the sheet takes it.|Turning the camera is not enough if the encoder keeps its size.
crop|cropping, digital zoom|Cutting the edges off a picture.||
scaler|scaling, upscaling, downscale|Makes a picture larger or smaller.|Never send more pixels than the camera has.|
deinterlace|deinterlacing, de-interlacing, bob, weave|Makes whole pictures of half ones.|On, where the source is interlaced.|
23.976|23,98, 23.98, 24000/1001, film|Twenty-four pictures, slowed by one in a thousand and one.|Only for films.|Not 24.
59.94|59,94, 60000/1001|Sixty pictures, slowed by one in a thousand and one.|Only for inputs of 59.94.|Not 60.
dropped frames|frame drops, lost frames, skipped frames|Pictures that never went out: the encoder or the line was too slow.|Lower the bitrate, then the size.|
frozen picture|freeze, frozen, still|The same picture again and again.|Look at camera and cable, then at the line.|
gamma|transfer function, transfer characteristics, EOTF|How code values become light.|BT.709 for HD.|
hlg|HLG, hybrid log-gamma|High dynamic range that also shows on plain screens; 10 bits.|Off, unless the sheet asks for it.|
pq|PQ, ST 2084, perceptual quantizer|High dynamic range in absolute brightness; 10 bits.|Off, unless the sheet asks for it.|
bt.2020|Rec.2020, BT2020, wide colour|Wider colours than HD's.|Off, unless the sheet asks for it.|Shown as BT.709 it looks pale.
log picture|log, log gamma, flat profile|A grey-looking picture made for grading.|Off for live.|
10 bit|10-bit, 10 bits, bit depth|Four times as many steps from black to white as 8 bits.|8 bit, unless the sheet asks for more.|
4:2:2|YUV422, 422|Colour at half the sharpness across, all of it down.|4:2:0 for platforms.|
white balance|WB, AWB, colour temperature|Which light counts as white.|Set it by hand and keep it.|
shutter|shutter speed, exposure time|How long each picture is exposed.|1/50 s at 25 and 50 pictures, 1/60 s at 30 and 60.|A wrong one makes lamps flicker.
gain|ISO, sensitivity, dB gain|Brightens a dark picture, and its noise.|As low as the light allows.|Noise eats bitrate.
opus|Opus audio|A newer sound codec.|Only where the sheet names it.|
mp3|MP3, MPEG layer 3|An older sound codec.|AAC for live.|
pcm|PCM, linear PCM, LPCM, uncompressed audio|Sound as it is, without coding.|AAC for a push.|
ac-3|AC3, AC-3|A codec for surround sound.|AAC for a push.|
adts|ADTS, LOAS, LATM|How AAC frames are wrapped one by one.||RTMP and MP4 carry AAC without it.
stereo|2 channels, two channels, 2.0|Left and right.|Choose it, also for one microphone on both.|A microphone on the left alone is heard on the left alone.
mono|1 channel, one channel|One channel of sound.|Only where the sheet takes it.|
surround|5.1, 6 channels, multichannel|Six or more channels.|Stereo for platforms.|
dbfs|dBFS, full scale|Level below the loudest that numbers can hold: 0 dBFS.|Speech about -20 dBFS on the average, peaks below -6.|dBu on a mixer is another scale.
loudness|LUFS, LKFS, R 128|How loud sound seems over time.|About -23 LUFS for broadcast, -16 for the web; the sheet says.|Peaks say nothing of it.
clipping|overload, distortion|Sound beyond full scale is cut off and crackles.|Turn the input down.|
limiter|AGC, automatic gain, auto level|Holds loud sound down by itself.|A limiter on; automatic gain off for music.|
embedded audio|SDI audio, HDMI audio, embedded|Sound that comes with the picture on one cable.|Choose it as the source where the mixer feeds the camera or switcher.|Another source chosen means silence.
phantom power|48 V, +48V, P48|Feeds condenser microphones.|On for those, off for a mixer's output.|
audio delay|lip sync, AV sync, audio offset|Sound earlier or later than the picture.|0, then adjust with a clap in front of the camera.|
mute|muted, silent|No sound goes out, though there is a sound track.|Watch the level before going live.|
hls|HLS, HTTP live streaming, m3u8|How platforms send to viewers, in pieces of some seconds.|Nothing to set on a camera that pushes.|A watch address, not an ingest.
rtp|RTP, real-time transport protocol|Carries pictures and sound over UDP, mostly under RTSP.||
udp|UDP, datagram|Packets without a promise that they arrive.||
tcp|TCP, transmission control protocol|A connection that repeats what was lost.||RTMP runs over it; a bad line shows as a stuck push.
mpeg-ts|MPEG-TS, TS, transport stream|A container for broadcasts, often inside SRT or UDP.||
flv|FLV file|The container behind RTMP.||
mp4|MP4, ISO base media, mov|A container for files.|Record in it only when nothing may pull the plug: it is written to its end last.|
webrtc|WebRTC, WHIP, whip|A push with very little delay, from browsers too.|Where the ingest takes it.|
tls|TLS, SSL, encryption|Encrypts a connection and proves who the other end is.|Use it: RTMPS, HTTPS.|It needs the right date and time on the device.
certificate|TLS certificate, SSL certificate, CA|The proof of whom one talks to.|Keep the device's clock right.|
passphrase|SRT passphrase, encryption key|The password of an SRT connection, 10 to 79 characters.|As the ingest gives it.|It is not the stream key.
stream id|streamid, SRT stream ID|Names the stream inside an SRT connection.|As the ingest gives it.|
caller|caller mode, listener, rendezvous|SRT: the end that connects is the caller, the other listens.|A camera that pushes is the caller.|
srt latency|latency ms, receive buffer|The time SRT has to repeat what was lost.|Four times the round trip, at least 120 ms.|
port|TCP port, 1935, 443|The number behind the host that says which service is meant.|The protocol's usual one, unless the sheet says otherwise.|
firewall|blocked port|Something on the way that lets only some ports through.|Ask for the ingest's port outwards; RTMPS on 443 mostly passes.|
nat|NAT, router, port forwarding|Many devices behind one address.|Nothing to do for a push: it goes outwards.|
dns|DNS, name server|Turns names into addresses.|Set one: without it the ingest's name is unknown.|
dhcp|DHCP, automatic address|The network hands out the address.|For a quick start; a fixed address for lasting gear.|
static address|static IP, fixed IP, manual address|An address set by hand.|Outside the range that DHCP hands out.|
gateway|default gateway, router address|The way out of the local network.|Set it, or no push leaves.|
subnet mask|netmask, /24, prefix length|Which addresses are neighbours.|255.255.255.0 in most networks.|
vlan|VLAN, 802.1Q|Separate networks on one cable.|As the network's owner says.|
poe|PoE, PoE+, power over Ethernet|Power over the network cable.|Check that the switch gives as much as the camera takes.|
multicast|multicast stream, IGMP|One stream for many receivers inside a network.|Off for a push to a platform.|
packet loss|loss, lost packets|Packets that did not arrive.|A cable instead of Wi-Fi.|
round trip|RTT, ping, ping time|The time to the other end and back.||
bonding|bonded, multi-link, aggregation|Several lines used as one.|For mobile uplinks.|
vpn|VPN, tunnel|A private way through other networks.|Off for the push, unless it is the only way.|It takes some of the uplink.
qos|QoS, traffic shaping, priority|Which packets go first.|Give the push priority in the router.|
data plan|data cap, data volume, APN, SIM|How much a mobile line may carry.|6 Mbit/s take 2.7 GB an hour.|
speed test|bandwidth test, upload test|Measures a line for some seconds to a server nearby.|Use at most two thirds of its upload.|It shows a good moment, not the worst one.
ingest|ingest server, entry point, receiving server|Where a platform takes a stream in.|Choose the region nearest to you.|
primary server|primary, main ingest, primary ingest|The address that is used first.||
backup server|backup, secondary server, backup ingest|A second address for a second push of the same programme.|Use it with a second encoder, if there is one.|
event|live event, broadcast, scheduled event|What viewers are invited to.|Make it before the push.|
persistent key|permanent key, default key|A key that stays the same for all events.|Renew it when others saw it.|
unlisted|private, visibility, audience|Who may watch.|Unlisted or private while you test.|
dvr|DVR, rewind, timeshift|Viewers can go back while it runs.||
captions|closed captions, CEA-608, CEA-708, subtitles|Text for what is said.|As the sheet takes them.|
ad markers|SCTE-35, cue, cue tones|Signals for breaks.|Off, unless the platform wants them.|
stream health|health, ingest health|What the platform says of your push.|Look at it before and during the event.|
watch link|watch page, viewer link, playback URL|Where viewers look.|Give it to them.|It is not where a camera pushes to.
reconnect|auto reconnect, retry|The device pushes again after a break.|On.|
auto start|autostart, start on boot, push on power up|The push begins when the device is switched on.|Off, unless somebody watches it: it goes on air by itself.|
record while streaming|local recording, backup recording|A copy on the device's own card.|On: it saves the day when the line fails.|
overlay|OSD, on-screen display, burn-in, watermark|Text or pictures laid over the video.|Off: menus and clocks go on air too.|
clean output|clean HDMI, clean feed|A camera's output without menus and marks.|On, when it feeds an encoder.|
sdi|SDI, HD-SDI, 3G-SDI|A broadcast video cable, up to 100 m.||1080p50 needs 3G-SDI.
hdmi|HDMI|A consumer video cable, safe to about 10 m.||A copy-protected source shows black.
hdcp|HDCP, copy protection|Keeps protected pictures from being recorded.|Off at the source, where it can be.|
edid|EDID, display data|What a screen says it can show; sources follow it.|Choose the format on the encoder's input.|
genlock|sync, reference|All cameras take their pictures at the same moment.|Where a switcher needs it.|
timecode|TC, LTC, timestamps in the picture|A clock that counts pictures.||
input signal|video input, no signal, source format|What arrives at the encoder.|Check size, rate and p or i before all else.|
ptz|PTZ, pan tilt zoom|A camera that turns and zooms by remote.||
camera preset|preset position, home position|A stored direction and zoom of a PTZ camera.||
firmware|firmware update, FW, software version|The device's own program.|Never update on the day of the event.|
factory reset|reset to defaults, default settings|All settings as on the first day.|Write down the network settings first.|
onvif|ONVIF profile S, ONVIF profile T|An open standard for IP cameras: finding, setting, fetching.|On, with a user of its own.|
watchdog|auto reboot, scheduled reboot|Restarts the device when it hangs, or at a set time.|No set times near the event.|
MB/s|megabyte per second, MBps|A million bytes a second: 8 Mbit/s.||Large B is byte: 6 MB/s are 48 Mbit/s; ingests speak of Mbit/s.
Gbit/s|Gbps, gigabit|A thousand Mbit/s.||
GB|gigabyte, MB, megabyte, TB|A thousand million bytes; 1 GB = 1000 MB.|6 Mbit/s take 2.7 GB an hour.|GiB is a little more: 1.074 GB.
ip camera|network camera, IP cam|A camera on the network that serves its own page and streams.|Set it by its page or by Direkt's driver.|
dscp|DSCP, diffserv, ToS|A mark on each packet that asks the network for priority.|Only where the network's owner says so; the internet ignores it.|
two-pass encoding|two pass, 2-pass, multipass|The picture is looked at twice before it is coded.|Only for files; a live push has one pass.|
lossless|uncompressed video, visually lossless|Coding without loss of anything; far too many bits for a push.|Not for live platforms.|
d1|D1, 4CIF|720x576 or 720x480, the old television size.|Choose 1280x720 or more.|Its pixels are not square.
cif|CIF, QCIF|352x288, a size for previews.|Not for a push: it is a sub stream's size.|
vga|VGA, 640x480|640x480, shape 4:3.|Choose a 16:9 size.|
wxga|WXGA, 1280x800|1280x800, shape 16:10, of computers.|1280x720.|
xga|XGA, 1024x768|1024x768, shape 4:3, of computers.|Choose a 16:9 size.|
mjpeg|MJPEG, Motion JPEG, M-JPEG|Each picture as a JPEG by itself.|H.264 for a push.|Ingests do not take it.
mpeg-2|MPEG2, H.262|The codec of DVDs and older television.|H.264 for a push.|
vp9|VP9, VP8|Video codecs of browsers.|Only where the sheet names them.|
g.722|G722, G.726, AMR|Telephone codecs for sound.|AAC for a push.|Ingests refuse them.
ipv6|IPv6, IP version 6|The newer kind of address, such as 2001:db8::7.|Either works, if both ends have it.|An address with colons stands in square brackets in front of a port.
upnp|UPnP, plug and play, automatic port forwarding|A device asks the router to let strangers in.|Off: a push goes outwards and needs nothing.|
proxy|HTTP proxy, web proxy|A server between the network and the internet that passes on web pages.|A push does not go through it: ask for the ingest's port outwards.|
captive portal|hotel wifi, login page, guest network|A network that shows a page before it lets anything through.|Not for a push: devices cannot click.|
simulcast|restreaming, multistreaming, several platforms|One programme to several platforms.|One push for each, or a platform that passes on; the uplink carries each of them.|
stream delay|broadcast delay, added delay|A delay that is added on purpose.|0, unless somebody must be able to cut in.|Sound and picture need the same.
wi-fi|wifi, wlan, wireless|A network by radio.|A cable for a push.|A full hall takes the radio from you.
mobile line|4G, 5G, LTE, cellular, modem|A line by the telephone network.|Measure it where it stands, when people are there.|
nvr|NVR, recorder, DVR recorder|A recorder that takes cameras' streams.|It can stand in a camera's way: many give out only a few streams.|
wide dynamic range|WDR, backlight compensation, BLC, HLC|The camera evens out bright and dark parts.|Off for sport, unless the sun stands behind.|It may halve the frame rate.
ir cut|day night, IR, infrared, night mode|The camera sees infrared light when it is dark, in black and white.|Fixed to day for a broadcast.|
image stabilisation|stabilization, EIS, OIS|Evens out a shaking camera.|Off on a tripod.|
autofocus|AF, auto focus, focus hunting|The camera focuses by itself.|Manual for a fixed view: it hunts when people pass.|
exposure|AE, auto exposure, iris, aperture|How much light a picture gets.|Manual where the light stays the same.|
flicker|anti-flicker, 50/60 Hz|Lamps that pulse with the mains.|Shutter 1/50 or 1/100 s at 50 Hz mains.|
variable frame rate|VFR|Pictures come when there is something new.|Off: platforms want a constant rate.|
constant frame rate|CFR|Pictures come evenly.|Choose it.|
temporal layers|SVC, temporal scalability, SVC-T|Pictures in layers of which some can be left out.|Off.|
pyramid|B-pyramid, hierarchical B|B-frames that look at other B-frames.|Off for low latency.|
weighted prediction|weightp|A tool for fades.|As it is.|
entropy coding|entropy mode|How H.264's bits are packed: CABAC or CAVLC.|CABAC, except with baseline.|
cipher|AES, AES-128, AES-256, GCM|How a connection is encrypted.|As the ingest says.|
hostname|host, host name, FQDN|A machine's name on the network.|As the platform gives it, without a scheme.|
mac address|MAC, hardware address|The number of a network socket.|For finding a device's address at the router.|
api|API, REST, HTTP API, CGI|How a program talks to the device or platform.||
webhook|callback|A web address that is told when something happens.|watch.notify in the rig.|
oauth|OAuth, sign in, access token, refresh token|Letting a program act for an account without its password.|direkt event sign-in.|
geoblocking|geo restriction, region lock|Viewers of some countries only.|Off while you test.|
monetisation|monetization, ads|Adverts around the event.|As agreed with the client.|
dash|MPEG-DASH|How some platforms send to viewers, in pieces.|Nothing to set on a camera that pushes.|
low latency hls|LL-HLS, low-latency streaming|Sends viewers smaller pieces.|Where people answer each other.|
cdn|CDN, edge server|Servers near the viewers that pass the stream on.||
sample aspect ratio|SAR, PAR, pixel aspect ratio|How wide a pixel is for its height.|1:1, square pixels.|Not the shape of the picture, which is DAR.
display aspect ratio|DAR, aspect ratio, picture shape|The shape of the picture as it is shown.|16:9.|
parameter sets|SPS, PPS, SPS/PPS, VPS, sequence header, extradata|The header of a stream, without which no player can begin.|Sent at the start and at every keyframe.|
vui|VUI, video usability information|What a stream declares of its colours, shape and rate.||A declaration can be wrong; the pictures count.
nal unit|NAL, NALU, NAL units|The unit of an H.264 or H.265 stream: a slice, a header or a message.||
sei|SEI, supplemental enhancement information|Messages inside a stream, such as captions.||
pts|PTS, presentation time stamp|When a picture or sound is presented.||
dts|DTS, decoding time stamp|When a picture is decoded; with B-frames earlier than it is presented.||DTS is a sound codec too.
pcr|PCR, program clock reference|The clock inside a transport stream.||
elementary stream|ES, PES, raw stream|One track without a container.||
macroblock|MB/s limit, MBPS level|A square of 16 by 16 pixels, in which H.264 counts.||
ctu|CTU, coding tree unit|A square of up to 64 by 64 pixels, in which H.265 counts.||
usb camera|UVC, USB, USB 3.0, webcam|A camera on a USB socket that needs a computer.|For a push by itself take a network camera or an encoder.|
capture card|capture device, grabber|Brings a camera's HDMI or SDI into a computer.|Check its input's size and rate.|
e-ac-3|EAC3, E-AC-3, enhanced AC-3|The newer codec for surround sound.|AAC in stereo for a push.|
24 bit audio|24-bit audio, 16 bit audio, sample depth, audio bit depth|How finely each sample is stored before it is coded.|Either: AAC does not keep it.|
21:9|ultrawide, 2.39:1|A shape wider than 16:9.|16:9: platforms add black bars.|
dsl line|DSL, VDSL, ADSL, cable modem|A line that carries much down and little upload.|Measure its upload; use at most two thirds.|DSL 50/10 carries 10 Mbit/s upwards at best.
fibre|fiber, FTTH|A line of glass that mostly carries as much up as down.|Measure it all the same.|
roaming|data roaming, foreign network|Using another country's mobile network.|Allow it before you travel, and ask what a GB costs.|
flip|mirror, rotate, image rotation|Turns or mirrors the picture.|As the camera hangs.|
first password|initial password, activation|A new camera does nothing until it has one.|Set it, and write it down safely.|
"""
