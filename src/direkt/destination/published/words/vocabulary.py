"""The words of published tables, as data: each phrase with the one thing that it can mean.

Phrases are in small letters and without a plural's s; where they are looked up, hyphens count as spaces. To teach a
new wording, or one of another language, is to add it to a line here.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from enum import Enum


class WordKind(Enum):
    """What a token is."""

    NUMBER = "number"
    UNIT = "unit"
    SIZE = "size"
    RATIO = "ratio"
    VALUE = "value"  # a word that is a value of a parameter by itself
    TOPIC = "topic"  # names a parameter
    SUBJECT = "subject"
    LIMIT = "limit"
    STRENGTH = "strength"
    MODE = "mode"  # of latency
    ROLE = "role"  # a server's
    SOURCE = "source"  # as the camera has it
    OTHER = "other"  # speaks of something that is not the pushed stream
    COLUMN = "column"  # a head's word that says what a column is for
    TIMES = "times"
    APPROX = "approx"
    URL = "url"
    BREAK = "break"
    COMMA = "comma"
    COLON = "colon"
    SLASH = "slash"
    OPEN = "("
    CLOSE = ")"
    AND = "and"
    OR = "or"
    TO = "to"
    DASH = "dash"
    IF = "if"  # begins a condition
    FILLER = "filler"
    WORD = "word"  # not in the vocabulary


@dataclass(frozen=True, slots=True)
class UnitWord:
    """A unit: what it measures, and the factor to ours."""

    measures: str  # bitrate, frequency, rate, time, frames, channels, bits, percent, px
    factor: float = 1.0


# Values that say by themselves of which parameter they are. Behind @: only where the row or the clause speaks of this.
_VALUES = """
video.codec=h264: h264|h 264|avc|mpeg 4 avc|mpeg 4 part 10|mpeg4 avc|avc1|itu t h264
video.codec=h265: h265|h 265|hevc
video.codec=av1: av1
video.codec=vp9: vp9
video.codec=vp8: vp8
video.codec=mpeg2 @video.codec: mpeg 2|mpeg2
video.codec=mjpeg @video.codec: mjpeg|motion jpeg
video.profile=high @video.profile: high|hi|hp|élevé|alto
video.profile=high: high profile|profile high|profil high|profilo high|perfil high
video.profile=main @video.profile: main|mp
video.profile=main: main profile|profile main|profil main|profilo main|perfil main
video.profile=baseline @video.profile: baseline|base line|bp
video.profile=baseline: baseline profile|profile baseline|profil baseline
video.profile=constrained-baseline: constrained baseline|constrained baseline profile
video.profile=extended @video.profile: extended
video.profile=high10: high 10|high10
video.profile=high422: high 422|high422|high 4 2 2
video.profile=main10: main 10|main10|main 10 profile
video.scan=progressive: progressive|progressive scan|progressive only|progressif|progresivo|progressivo|progressiv|vollbilder|non interlaced|no interlaced|not interlaced|deinterlaced
video.scan=interlaced: interlaced|interlace|interlacing|entrelacé|entrelazado|interlacciato|halbbilder|interlaced scan
video.field_order=top: top field first|upper field first|tff|top first|oberes halbbild zuerst
video.field_order=bottom: bottom field first|lower field first|bff|bottom first
video.rate_control=cbr: cbr|constant bit rate|constant bitrate|konstante bitrate|débit constant|fixed bitrate|tasa constante|bitrate costante
video.rate_control=cbr @video.rate_control: constant|konstant|fixed
video.rate_control=cbr @bitrate: constant|fixed|konstant
video.rate_control=cbr @video bitrate: constant|fixed|konstant
video.rate_control=vbr @video bitrate: variable
video.rate_control=vbr @bitrate: variable
video.rate_control=vbr: vbr|variable bit rate|variable bitrate|variable bitrate|débit variable|variable datenrate
video.rate_control=vbr @video.rate_control: variable|variabel
video.frame_rate_constant=yes: cfr|constant frame rate|fixed frame rate|constant framerate|konstante bildrate|konstante framerate
video.frame_rate_constant=yes @video.frame_rate: constant|fixed|konstant|fixe
video.frame_rate_constant=no: vfr|variable frame rate|variable framerate|variable bildrate
video.frame_rate_constant=no @video.frame_rate: variable
video.gop_closed=yes: closed gop|closed gop structure|gop closed|gop fermé|geschlossene gop|geschlossener gop
video.gop_closed=yes @video.keyframe_interval: closed|fermé|geschlossen|cerrado|chiuso
video.gop_closed=yes @video.gop_closed: yes|on|required|enabled|closed
video.gop_closed=no: open gop|gop open
video.gop_closed=no @video.keyframe_interval: open
video.entropy=cabac: cabac
video.entropy=cavlc: cavlc
video.sample_aspect=1:1: square pixel|pixel square|quadratische pixel
video.sample_aspect=1:1 @video.sample_aspect: square|quadratisch
video.display_aspect=16:9 @video.display_aspect: widescreen|wide screen
video.colour=bt.709: rec 709|bt 709|bt709|rec709|itu r bt 709|itu r 709
video.colour=bt.2020: rec 2020|bt 2020|bt2020|rec2020
video.colour.range=limited: limited range|video range|legal range
video.colour.range=limited @video.colour.range: limited
video.colour.range=full: full range
video.colour.range=full @video.colour.range: full
audio.codec=aac: aac|mpeg 4 aac|advanced audio coding|mp4a
audio.codec=aac audio.profile=lc: aac lc|lc aac|aac low complexity|aac l c|aaclc|aac lc profile
audio.codec=aac audio.profile=he: he aac|heaac|aac he|he aac v1|aac+|aac plus|high efficiency aac|aache
audio.codec=aac audio.profile=he-v2: he aac v2|heaacv2|aac he v2|he aacv2
audio.profile=lc @audio.: lc|low complexity
audio.codec=mp3: mp3|mpeg 1 layer 3|mpeg 1 layer iii|mpeg 1 audio layer 3
audio.codec=mp2: mp2|mpeg 1 layer 2|mpeg 1 layer ii|mpeg 1 audio layer ii|mpeg layer 2|mpeg layer ii
audio.codec=opus: opus
audio.codec=ac3: ac3|ac 3
audio.codec=speex: speex
audio.codec=pcm @audio.: pcm|lpcm
audio.channels=2: stereo|two channel|2 channel stereo|stéréo|estéreo|estereo|stereofonico|zwei kanäle|zweikanal|joint stereo|stereo pair|2 0 stereo
audio.channels=1: mono|one channel|monaural|monofónico|ein kanal
audio.channels=6: 5 1 surround|surround 5 1|5 1 surround sound
audio.present=no @audio.present: none|no|off|without
audio.present=yes @audio.present: yes|required|mandatory|must be present|needed|on
stream.protocol=rtmp: rtmp
stream.protocol=rtmps: rtmps|rtmp over tl|rtmp over ssl|rtmp over tls|rtmp tls|rtmp with tls|secure rtmp
stream.protocol=srt: srt
srt.mode=caller: caller mode|caller|srt caller
srt.mode=listener: listener mode|listener|srt listener
srt.mode=rendezvous: rendezvous mode|rendezvous
session.opens=by itself @session.opens: automatic|automatically|auto|by itself|by themselve|auto start|autostart
session.opens=by hand before the push @session.opens: manual|manually|by hand|by hand before the push
session.after_stop=same key @session.after_stop: same key|the same key|keep key|key stay|key remain
session.after_stop=new key @session.after_stop: new key|another key|key change
key.lives=one event @key.: one event|single event|per event|for each event|each event|every event|new one for each event|new key for each event|new for each event|one event only|a new one each time|one stream|single use|a new one for each event|valid for one event|new key for every event|changes with every event|change with each event|changes for every event|new per event
key.lives=for good @key.: permanent|permanently|for good|does not change|do not change|never change|doe not change|never expire|doe not expire|unlimited|stays the same|stay the same|reusable|persistent|unbegrenzt|does not expire|no expiry|never
b_frames=none @video.b_frames: none|no|off|disabled|not allowed|keine|aucune|zero|not used|disable|turn off|switch off|not supported|0 b frame|nessuno|ninguno
"""

# Names of parameters, and of what a sheet says beside them
_TOPICS = """
video.codec: kodierung|codierung|encodage|codificación|codifica|videoformat|format vidéo|formato de vídeo|formato video|video codec|codec|video compression|compression|type of compression|video coding|videocodec|video format|encoding|video encoding|encoder|video encoder|codec vidéo|codec video|códec de vídeo|códec de video|códec|videokompression|kompression|videokodierung|video standard|coding standard|compression standard|codage vidéo|video compression format|videocodering|encoding format|coding|codec type|encode|video encode|vcodec|videokodek|videokodning|compression format
video.profile: profile|h264 profile|h 264 profile|avc profile|video profile|encoding profile|codec profile|encoder profile|profil|profilo|perfil|profiel
video.level: level|h264 level|h 264 level|avc level|profile level|niveau|livello|nivel|lvl|codec level|level idc
video.size: resolution|picture size|video size|frame size|image size|video resolution|output resolution|picture format|image format|picture dimension|dimension|size|auflösung|videoauflösung|bildgröße|bildformat|définition|résolution|resolución|risoluzione|resolutie|oplossing|upplösning|oppløsning|opløsning|resolutio|pixel dimension|video dimension|screen size|raster|picture resolution|frame dimension|image resolution|res|stream resolution|encoded resolution|display resolution|canvas|video format and resolution|resolução|image dimension|picture raster|format
video.width: width|picture width|video width|frame width|image width|breite|largeur|ancho|larghezza
video.height: height|picture height|video height|frame height|image height|höhe|hauteur|alto de imagen|altezza
video.frame_rate: frame rate|framerate|frame per second|frame a second|frame frequency|picture rate|picture per second|image rate|fps|video frame rate|frames/s|fotogramas/s|fotograma/s|bilder/s|images/s|bildrate|bildfrequenz|bilder pro sekunde|fréquence d image|fréquence d'image|image par seconde|images par seconde|cadence|cadence d'image|fotograma por segundo|fotogrammi al secondo|frequenza fotogrammi|velocidad de fotograma|tasa de fotograma|beeldsnelheid|bildhastighet|picture frequency|rate of frame|temporal rate|video framerate|frame speed|refresh rate|beelden per seconde|kuvataajuus|vertical frequency|output frame rate
video.keyframe_interval: key frame interval|keyframe interval|key frame distance|keyframe distance|key frame|keyframe|key picture|key picture interval|gop|gop size|gop length|gop duration|gop structure|group of picture|i frame interval|iframe interval|i frame|iframe|idr interval|idr|idr period|idr frame interval|idr frame|idr picture|idr picture interval|key frame frequency|keyframe frequency|key frame period|keyframe period|keyframe every|key frame every|i frame distance|key frame spacing|keyframe spacing|intra period|intra frame interval|gop interval|gop period|refresh interval|intra refresh period|keyframe abstand|keyframe intervall|schlüsselbild|schlüsselbilder|schlüsselbildabstand|i frame abstand|i frame intervall|intervalle d'image clé|intervalle d image clé|image clé|intervalle entre image clé|intervalo de fotograma clave|fotograma clave|intervallo keyframe|intervallo fotogrammi chiave|intervalle keyframe|keyframe rate|key frame rate|nyckelbild|keyframe cadence|key frame cadence|key interval|gop size duration|gop time|intervallo tra keyframe|sleutelframe|keyframe max interval|time between keyframe|time between key frame|distance between keyframe|distance between key frame|keyframe frequence|recovery point interval|random access point|random access interval
video.gop_closed: closed gop flag|gop type|gop mode
video.b_frames: b frame|b picture|bframe|bidirectional frame|bi directional frame|bi predictive frame|b pyramid frame|number of b frame|consecutive b frame|b bild|trame b|image b|b frames in a row|b frame count|b picture in a row|consecutive b picture
video.reference_frames: reference frame|ref frame|reference picture|number of reference frame|referenzbild|reference frame count
video.slices: slice|slice per picture|slice per frame|number of slice|slice count
video.entropy: entropy coding|entropy|entropy mode|entropy encoding|entropy coder|entropiekodierung
video.rate_control: rate control|bitrate mode|bitrate type|bitrate control|bit rate mode|bit rate type|bit rate control|encoding mode|rate control mode|rate control method|bitratensteuerung|bitrate encoding|bitrate method|bitrate modus|bitratenmodus|mode de débit|rate mode|control mode|contrôle du débit|control de tasa|bitrate strategy|bitrate regulation|bit rate regulation|bitrate profile|brc
bitrate: bitrate|bit rate|data rate|datarate|bandwidth per stream|bit speed|datenrate|bitraten|débit|debit|tasa de bit|tasa de datos|velocidad de bit|velocità dati|bithastighet|rate in kbit s|stream rate|encoding bitrate|encoder bitrate|target bitrate rate|throughput|débit binaire|stream bitrate|bitrate range|bit rate range|bitstream rate|average bitrate|average bit rate|average|mean|avg|mean bitrate|mean bit rate|encoding rate|bitsnelheid|taxa de bit|mittlere bitrate|durchschnittliche bitrate|avg bitrate
peak bitrate: peak bitrate|peak bit rate|peak|peak rate|peak data rate|maximum peak|max peak bitrate|spitzenbitrate|spitzenwert|débit crête|burst|burst rate|peak video bitrate|maximum burst|bitrate peak|instantaneous bitrate|picco|vbv max rate|maximum instantaneous bitrate|spitze|maximum peak bitrate|short term peak|short peak
total bitrate: video audio bitrate|video and audio bitrate|video audio|video and audio|including audio|incl audio|including sound|audio included|with audio|inkl ton|inkl audio|total bitrate|total bit rate|total|overall bitrate|combined bitrate|gesamtbitrate|gesamtdatenrate|débit total|overall bit rate|combined bit rate|sum of audio and video|video and audio together|total stream bitrate|whole stream|audio and video together|mux rate|multiplex rate|total data rate|sum|aggregate bitrate|total video and audio|total audio and video|video and audio|audio and video|audio video|video audio|video plus audio|combined|tasa total|bitrate totale|ts rate|transport stream rate|system bitrate
video bitrate: v bitrate|vbitrate|video br|video bitrate|video bit rate|picture bitrate|picture bit rate|videobitrate|video datenrate|videodatenrate|débit vidéo|debit video|tasa de bit de vídeo|tasa de bits de vídeo|tasa de bits de video|tasa de bit de video|bitrate video|bitrate vidéo|bitrate vídeo|video data rate|video rate|video stream bitrate|velocidad de bits de vídeo|velocidad de bit de vídeo|main stream bitrate|video target bitrate|average video bitrate|mean video bitrate
audio bitrate: a bitrate|abitrate|audio br|audio bitrate|audio bit rate|sound bitrate|audiobitrate|audio datenrate|débit audio|tasa de bit de audio|tasa de bits de audio|bitrate audio|audio data rate|sound bit rate|aac bitrate|tonbitrate|audio rate|aac bit rate|audiodatenrate|velocidad de bits de audio|velocidad de bit de audio
video.scan: scan|scan type|scan mode|scanning|scan method|abtastung|balayage|interlacing|picture scan|scan format|barrido|scansione|scan system|frame type|field mode
video.field_order: field order|field dominance|field sequence|halbbildreihenfolge
video.chroma: chroma|chroma format|chroma sampling|chroma subsampling|subsampling|color sampling|colour sampling|colour subsampling|color subsampling|pixel format|farbunterabtastung|colour format|color format|yuv format|sampling structure|colour structure|farbabtastung|sous échantillonnage|color space and subsampling
video.bit_depth: bit depth|color depth|colour depth|bit per sample|bittiefe|farbtiefe|profondeur|profondeur de bit|video bit depth|bit per colour|bit per component|depth|sample depth
video.sample_aspect: pixel aspect ratio|pixel aspect|sample aspect ratio|pixel shape|par|pixelseitenverhältnis|pixel ratio|sample aspect|shape of pixel|pixel form|pixel
video.display_aspect: aspect ratio|aspect|display aspect ratio|display aspect|picture aspect ratio|picture aspect|dar|seitenverhältnis|format d'image|rapport d'image|relación de aspecto|picture shape|screen ratio|picture ratio|image ratio|rapporto|proporciones|proporzione|beeldverhouding|bildseitenverhältnis|video aspect ratio|image aspect ratio|screen format
video.buffer: vbv buffer|vbv|buffer|buffer size|vbv buffer size|encoder buffer|hrd buffer|puffer|rate control buffer|cpb|cpb size|buffer length|buffer window|vbv size
video.colour: colour|color|colour space|color space|colorimetry|farbraum|colour primary|color primary|colour gamut|color gamut|gamut|colour standard|espace colorimétrique|espace de couleur|matrix|colour matrix|color matrix|color standard
video.colour.range: colour range|color range|video range mode|quantisation range|quantization range|signal range|luma range|levels range
audio.present: audio present|audio track|sound track|audio required|audio presence
audio.codec: tonformat|audioformat|format audio|formato de audio|formato audio|audio codec|acodec|ljudkodek|audiokodek|audio coding|audio compression|audio format|sound codec|audiocodec|audio encoding|audio encoder|codec audio|códec de audio|sound coding|tonkodierung|codage audio|sound format|audio standard|audio type|sound encoding|sound compression
audio.profile: audio profile|aac profile|aac type|audio object type
audio.sample_rate: sample rate|sampling rate|sampling frequency|sample frequency|audio sample rate|audio sampling rate|audio sampling|sampling|abtastrate|samplerate|fréquence d'échantillonnage|frecuencia de muestreo|frequenza di campionamento|sound sampling|audio sampling frequency|echantillonnage|échantillonnage|audio sample frequency|abtastfrequenz|audio frequency|sound sampling rate|sample rate audio|muestreo|campionamento|samplefrequentie|audio samplerate
audio.channels: channel|audio channel|sound channel|number of channel|channel mode|tonkanal|tonkanäle|kanäle|audiokanäle|canal|canaux|canales|canali|audio channel mode|channel count|audio mode|channel layout|audio layout|channel configuration|audio channel layout|number of audio channel|audio channel count|kanal|sound mode|canaux audio|canales de audio|canali audio|stereo mode|voies|audio channel configuration
stream.protocol: protocol|protocole|protocolo|protocollo|protokoll|transport|transport protocol|ingest protocol|streaming protocol|supported protocol|delivery|delivery protocol|push protocol|input protocol|accepted protocol|contribution protocol|connection|connection type|ingest type|input type|übertragung|delivery method
port: port|tcp port|udp port|ingest port|server port|port number|firewall|network port|destination port|porta|puerto|outgoing port
server: server|server address|server url|ingest server|ingest url|ingest address|ingest|ingest point|url|address|stream url|push url|rtmp url|rtmps url|srt url|entry point|endpoint|ingest endpoint|publishing point|adresse|server adresse|indirizzo|dirección|adresse du serveur|streaming server|rtmp server|destination|destination url|destination address|publish url|streaming url|rtmp address|host|hostname|ingest host|server location|ingest location|servidor|serveur|point d'entrée|zieladresse|url du serveur|ingestion url|ingestion server|url del servidor|push address|target url|contribution url
region: region|location|site|place|data centre|data center|zone|continent|area of ingest|standort|région|región|regione|datacentre|datacenter|pop
session.longest_hours: may last|event may last|stream may last|broadcast may last|session may last|may run for|can last|may take|how long may it last|how long|how long can it last|how long can i stream|longest duration|event length|event duration|stream duration|stream length|session length|session duration|broadcast length|broadcast duration|maximum stream length|longest event|length of event|stream time|longest stream|longest session|live duration|duration|maximum duration|max duration|time limit|duration limit|stream limit|session limit|running time|streaming time|max length|maximum length|maximum event length|length limit|event limit|durée|dauer|maximaldauer|sendedauer|duración|durata|longest broadcast|event can last|stream can last|broadcast limit|session is cut|live event length|live event duration|live stream length|live stream duration|livestream length|continuous streaming|disconnected after|cut off after|cut after|ends after|sendung|eine sendung|länge der sendung|sendung dauern|session dure|durée d'une session|durée de la session|durée maximale d'une session|la sesión dura|sesión dura|duración de la sesión|duración máxima|durata della sessione|durata massima|sessione dura|sessieduur
session.shows_after_s: visible to viewer|picture is visible to viewer|visible to the viewer|shown to viewer|picture is visible|viewers see the picture|when do viewers see it|picture is seen after|becomes visible after|time until the picture appear|picture appear|preview appear|time to appear|picture appears after|preview appears after|picture appear after|preview appear after|preview after|picture after|delay until shown|time until shown|start up time|startup time|startup delay|start delay|start up delay|time to first picture|time to picture|delay until visible|time until visible|visible after|shown after|preview available after|stream appear|stream appear after|time to preview|on air after|live after|delay until the picture appear|until the picture appear|delay before the picture appear|time before picture|ingest start delay|time to live picture|delay until picture|time until picture|viewers see the picture after|picture visible after|time to go live|stream visible after|preview delay|time until the stream appear|time until live|delay before preview|time to first frame
session.lead_time_hours: new account|account activation|account lead time|lead time|activation time|first stream|new channel|account verification|waiting time for new account|activation delay|activation|account approval|enable live streaming|live streaming enabled|waiting period
session.opens: event start|event opening|opening the event|going live|go live|event opens|event open|event goes live|start of event|broadcast start|stream start|live start|event is opened|start the event|opening
session.after_stop: after a stop|after stop|reconnect|reconnection|after a disconnect|after disconnect|after an interruption|restart|after a restart|stream restart|when the push stops
key.lives: stream key|key lifetime|key validity|key life|key|stream key validity|key expiry|key expires|key expire|key expires after|key lifespan|stream key lifetime|validity of key|validity of the key|stream key expires|stream key expire|key is valid|key valid|life of key|schlüssel|stream schlüssel|streamschlüssel|clé|clé de flux|clé de stream|clave|chiave|stream key life|ingest key|gültigkeit des schlüssels|streaming key|stream name expiry|key duration|key rotation|schlüssel gilt|der schlüssel gilt|schlüssel läuft ab|clé expire|la clé expire|clé est valable|la clave caduca|clave caduca|clave expira|chiave scade|la chiave scade|sleutel verloopt
stream.av_offset: a/v sync|av sync|a v sync|audio video sync|audio/video sync|lip sync|lipsync|lip synchronisation|a/v offset|av offset|a v offset|audio video offset|audio offset|av synchronisation|synchronisation|audio to video offset|ton bild versatz|bild ton versatz|décalage audio vidéo|desfase audio vídeo
srt.latency_ms: srt latency|srt delay|srt buffer|srt receive latency|receive latency|receiver latency|srt latenz|srt receive buffer|latency of srt
srt.passphrase: passphrase|srt passphrase|encryption passphrase|srt encryption passphrase|srt password|pass phrase|srt passwort
srt.stream_id: stream id|streamid|srt stream id|srt streamid|stream identifier|srt stream identifier
latency.behind: viewer delay|viewer's delay|viewers' delay|viewer latency|delay for viewer|delay to viewer|latency for viewer|viewer behind|behind live|time behind live|delay behind live|viewer delay behind live|glass to glass|glass to glass latency|glass to glass delay|end to end latency|end to end delay|expected delay|expected latency|typical delay|typical latency|delay to the viewer|delay until the viewer|verzögerung für zuschauer|zuschauerverzögerung|verzögerung beim zuschauer
latency: latency mode|latency setting|latency option|latenzmodus|mode de latence|delay mode|latency class
"""

_OTHER = """
thumbnail|poster|preview image|cover image|cover|banner|logo|watermark|overlay|slate|avatar|icon|recording|record|archive|vod|on demand|upload|uploaded|uplink|
internet|internet speed|internet connection|upload speed|upload bandwidth|bandwidth|network bandwidth|line|connection speed|download|
playback|player|viewer|rendition|transcode|transcoded|transcoding|output rendition|output ladder|delivered|watch|viewing|hls|dash|whip|webrtc|rtsp|ts file|
caption|subtitle|closed caption|metadata|chat|moderation|storage|disk|file|file size|container|mp4|mov|mkv|
backup video|backup stream|backup encoder|backup bitrate|second stream|secondary stream|sub stream|substream|preview|preview stream|proxy|monitor|return feed|return|talkback|intercom|
latency|delay|price|cost|plan|account|camera|lens|shutter|exposure|microphone|loudness|volume|lufs|headroom|drm|encryption|geoblocking|
mobile|phone|tablet|browser|screen|monitoring|sports|free plan|premium|image file|photo|still|jpeg|png|gif|profile picture|channel art|replay|clip|highlight|dvr|rewind|multicast|satellite|
bitrate of recording|source file|master|mezzanine|vorschaubild|aufzeichnung|miniature|enregistrement|grabación|registrazione|wiedergabe|internetanschluss|leitung|stream health|buffering|jitter|packet loss|fec|per channel|each channel|per stream|per viewer|per camera|per person
"""

_UNITS = {
    (
        "bitrate",
        1.0,
    ): "kbp|kbps|kbit/s|kbits/s|kb/s|kbit|kbits|kilobit per second|kilobit|kbit per second|kilobits/s|kbit sec|kbit/sec|kbps video|kbit pro sekunde|kb per second|kbits per second|kbit p s|kilobit/s|kbits/sec",
    (
        "bitrate",
        1000.0,
    ): "mbp|mbps|mbit/s|mbits/s|mb/s|mbit|mbits|megabit per second|megabit|mbit per second|megabits/s|mbit/sec|mb per second|mbits per second|mbit pro sekunde|megabit/s|mbits/sec|mbit sec|mb/sec",
    ("bitrate", 0.001): "bps|bit/s|bits/s|bit per second|b/s",
    ("bitrate", 1_000_000.0): "gbps|gbit/s",
    ("frequency", 1000.0): "khz|kilohertz",
    ("frequency", 1.0): "hz|hertz",
    (
        "rate",
        1.0,
    ): "fps|f/s|i/s|frame/s|frames/s|image/s|images/s|im/s|frame per second|frame a second|frame pro sekunde|bilder/s|bild/s|bilder pro sekunde|vollbilder pro sekunde|picture per second|picture a second|picture/s|image par seconde|fotograma por segundo|fotogrammi al secondo|fotogrammi/s|fotograma/s|b/sek|frame sec|frame/sec|frames/sec|frames per sec|frame per sec|full frame per second|ips|beelden per seconde|im sec|bps bilder",
    ("time", 1.0): "s|sec|second|seconde|segundo|secondo|secondi|sek|sekunde|sekunden|sekund|seg|second(s)",
    ("time", 0.001): "ms|millisecond|milliseconde|msec|millisekunden",
    ("time", 60.0): "min|minute|minuto|minuti|minuten",
    ("time", 3600.0): "h|hr|hour|heure|hora|ora|ore|stunde|stunden|std",
    ("time", 86400.0): "day|jour|tag|tage|tagen|día|dia|giorni|dagen",
    ("time", 604800.0): "week|semaine|woche|wochen|semana|settimane",
    ("frames", 1.0): "frame|picture|image|bilder|fotograma|fotogrammi|trame",
    ("channels", 1.0): "ch|channel|kanäle|canaux|canales|canali|kanal",
    ("percent", 1.0): "%|percent|per cent|prozent",
    ("px", 1.0): "px|pixel|pixels|pix",
    ("bits", 1.0): "bit|bits",
}

_LIMITS = {
    "max": "máx|maxi|höchst|at least every|at least one every|at least once every|at least one key frame every|at least each|mindestens alle|mindestens eins alle|au moins toutes les|almeno ogni|al menos cada|minimum every|at least 1 every|at most|maximum|max|maximal|up to|upto|up to and including|no more than|not more than|never more than|do not exceed|not exceed|not to exceed|must not exceed|should not exceed|shall not exceed|never exceed|don't exceed|doe not exceed|not exceeding|no longer than|not longer than|never longer than|never further apart than|not further apart than|no further apart than|limited to|limit|limited|upper limit|less than|below|under|no higher than|not higher than|not above|never above|no greater than|not greater than|capped at|cap|ceiling|highest|or lower|or less|or below|or fewer|or smaller|or shorter|and lower|and below|and less|or under|höchstens|höchsten|maximale|maximaler|maximales|bis zu|bis maximal|nicht mehr als|nicht über|maximum de|au maximum|au plus|maximale de|máximo|máxima|como máximo|hasta|massimo|massima|al massimo|fino a|högst|maks|maximaal|nicht mehr|oder weniger|ou moins|o menos|o meno|max value|maximum value|upper bound|not over|or more often|within|at the most|should stay below|must stay below|stay below|keep below|keep under|stay under|and smaller|no larger than|not larger than|jusqu'à|jusqu à|longest|oder niedriger|oder kleiner|tops|never over|at max|maximally|as high as|allowed maximum",
    "min": "mind|mindest|mín|mini|at most every|at most one every|at most once every|no more often than every|not more often than every|or less often|at least|minimum|min|minimal|no less than|not less than|never less than|not below|never below|no lower than|not lower than|no fewer than|or higher|or more|or above|or better|or greater|or larger|or up|and higher|and above|and up|more than|above|lowest|lower limit|floor|upward|upwards|mindestens|mindesten|minimale|minimaler|wenigstens|ab|oder mehr|oder höher|au moins|minimum de|al menos|mínimo|mínima|como mínimo|minimo|minima|almeno|minst|minimaal|ou plus|o más|o più|min value|minimum value|lower bound|no smaller than|not under|starting at|starting from|smallest|shortest|never under|allowed minimum",
}

_STRENGTHS = {
    "should": "rec|recom|recomm|empf|conseillé|typ|better|better still|recommended|recommend|recommend using|we recommend|recommendation|recommended value|recommended setting|preferred|preferably|prefer|preference|ideal|ideally|suggested|suggest|suggestion|suggested value|best|advised|advise|advisable|target|targeted|optimal|optimum|nominal|typical|typically|usual|usually|should|should be|sweet spot|best value|standard|desired|aim for|goal|empfohlen|empfehlung|empfohlene|empfohlener|empfohlenes|bevorzugt|ideal|sollte|soll|recommandé|recommandée|recommandation|de préférence|conseillé|conseillée|valeur conseillée|idéal|recomendado|recomendada|valor recomendado|recomendación|preferido|preferible|preferiblemente|consigliato|consigliata|raccomandato|preferibile|aanbevolen|rekommenderat|anbefalt|suositus|encouraged|works best|best practice|optimal value|good value|richtwert|empfohlener wert|valeur recommandée|valore consigliato|we suggest|we prefer|recommended option|our pick|vorzugsweise|preferred value|ideal value|is best|bester wert|is ideal|is preferred|aim|standard value|most common|nominal value|normally|strongly recommended|highly recommended",
    "must": "required|require|requirement|must|must be|mandatory|only|shall|shall be|shall be used|must be used|is required|needed|need|necessary|obligatory|compulsory|exclusively|fixed value|erforderlich|vorgabe|pflicht|zwingend|nur|muss|obligatoire|requis|exigé|uniquement|seulement|requerido|obligatorio|solo|sólo|obbligatorio|richiesto|verplicht|krav|required value|exact|exactly|always|strictly|mandated|ausschließlich|required setting|doit être|musst|debe ser|deve essere",
    "accept": "accepted|accept|allowed|allow|permitted|supported|support|possible|acceptable|may be|may be used|can be used|can|may|also|also accepted|also supported|also allowed|also possible|is fine|fine|ok|okay|work|works|works too|valid|erlaubt|zulässig|unterstützt|möglich|accepté|acceptée|pris en charge|autorisé|admis|permitido|compatible|soportado|aceptado|supportato|ammesso|accettato|too|tolerated|erlaubte werte|is accepted|range|bereich|plage|rango|intervallo|allowed value|valid value|permitted value|accepted value|supported value|supported range|accepted range|allowed range|option|choice|eligible|wert|admitted|good too|taken|we take|we accept",
    "not": "anything but|everything but|anything except|everything except|any but|any except|all but|all except|alles außer|tout sauf|todo excepto|todo menos|tutto tranne|no|not|never|without|avoid|do not|do not use|don't|don't use|must not|must not be used|shall not|shall not be used|should not|should not be used|cannot|can't|not supported|unsupported|not allowed|not accepted|not permitted|not possible|disallowed|forbidden|prohibited|rejected|refused|not recommended|is not supported|are not supported|isn't supported|not use|disabled|disable|turn off|switch off|turned off|switched off|off|not taken|will be rejected|not to be used|not this|not these|kein|keine|nicht|nicht erlaubt|nicht unterstützt|vermeiden|ohne|pa|non|pas de|non supporté|à éviter|éviter|interdit|no admitido|no compatible|evitar|sin|non supportato|evitare|senza|geen|niet|inte|ikke|will not work|does not work|do not work|not work|won't work|not valid|nicht verwenden|unzulässig|ausgeschlossen|excluded|not be used|never use|not any|don't send|do not send|not acceptable|refuse|reject|are refused|is refused",
}

_MODES = {
    "normal": "normal latency|standard latency|usual latency|default latency|regular latency|normale latenz|latence normale|latencia normal|latenza normale",
    "low": "low latency|low latency mode|reduced latency|short latency|niedrige latenz|geringe latenz|latence faible|faible latence|baja latencia|bassa latenza|low delay",
    "ultra-low": "ultra low latency|ultra low latency mode|very low latency|ultralow latency|lowest latency|shortest latency|sehr niedrige latenz|ultra low delay|ultra faible latence|near real time|real time|realtime",
}  # fmt: skip
_BARE_MODES = {"normal": "normal|standard|usual|default|regular", "low": "low|reduced|short|niedrig|faible|baja|bassa", "ultra-low": "ultra low|very low|ultralow|lowest|shortest|ultra"}  # fmt: skip

_SOURCES = "same as source|same as the source|same as your source|same as camera|same as the camera|same as input|same as the input|same as your camera|match source|match the source|match your source|match your camera|match the camera|match camera|match input|match the input|matching source|matching your source|matching your camera|matching the camera|matching the source|matche source|native|as source|source frame rate|source rate|follow the source|follow source|as the source|as in the source|as the camera|wie quelle|wie die quelle|identique à la source|igual que la fuente|come la sorgente|same as your input|same as video source|as recorded|same rate as source|same as the original|keep source|keep the source|native frame rate|native rate|matches the source|equal to the source|equal to source|equals source|source"
_ROLES = {"primary": "primary|main|first|haupt|principal|principale|hauptserver|primaire|main server|primary server|primary url|primary ingest|primary address|server 1", "backup": "backup|back up|second|secondary|spare|reserve|ersatz|secours|respaldo|riserva|redundant|redundancy|fallback|fall back|standby|backup server|backup url|backup ingest|backup address|server 2|reserveserver|alternate|alternative"}  # fmt: skip
_SUBJECTS = {"video": "video|picture|vidéo|vídeo|bild|image|imagen|immagine|videospur|video stream|video setting|video track|visual|beeld", "audio": "audio|sound|ton|son|sonido|suono|geluid|ljud|audio stream|audio setting|audiospur|audio track|lyd|ääni|áudio|tonspur"}  # fmt: skip
_COLUMNS = "setting|parameter|property|name|what|item|value|specification|spec|detail|description|attribute|field|option|feature|key figure|einstellung|eigenschaft|merkmal|wert|paramètre|réglage|valeur|valeur|caractéristique|parámetro|ajuste|valor|parametro|impostazione|valore|instelling|waarde|signal|how|topic|characteristic|element|our value|entry|position|angabe|thema|quantity|kenngröße|subject|aspect of stream|rule|what we need|what you set|criterion|requisito"
_LABELS = "quality|preset|tier|rendition|stream type|stream|variant|class|step|template|level of quality|qualität|qualité|calidad|qualità|stufe|preset name|type|category|section|group|area|kategorie|bereich|catégorie|categoría|categoria|media|component"
_NOTES = "comment|note|remark|reason|why|explanation|hint|tip|bemerkung|anmerkung|hinweis|kommentar|remarque|commentaire|nota|observación|comentario|osservazione|more|further information|info|information|rationale|notes and hints|additional information|background|opmerking|example|beispiel|exemple|ejemplo|esempio"
_DEFAULTS = "default|default value|factory default|factory setting|default setting|standardwert|werkseinstellung|voreinstellung|par défaut|valeur par défaut|por defecto|predefinito|standaard|initial value"
_UNIT_HEADS = "unit|units|einheit|unité|unidad|unità|eenheid"

_FILLER = """
fixed a an the of in is are be at each every per with by for it it's its as we this that these those use used using set please number your our you from
apart value setting parameter setup configuration config should we as per ingest encoder encoding stream streaming encoded outgoing output input push pushed live
feed main primary contribution mode type control target-type source-type transmission broadcast signal codec configured set-to send sends sent into on to one once
und der die das ein eine mit bei von pro je im in des den le la les un une de du des et avec par à d l el los las y con por para il lo gli di da per con e del della al alla den det en ett och af
mandatory-use one-of one-every one-each nothing-larger nothing-bigger nothing-higher nothing-else nothing-more one-per one-at-least-every incl including inclusive either any both all has have having been via around-the then so there start begin beginsning began after-start-of here will must-have than which what who tcp udp ip over through only-if range between
platform platform's server's picture's video's stream's encoder's following below-given given make sure ensure please-use choose select pick keep its own same standard-definition
pal ntsc ebu itu iso iec mpeg-part full hd-ready sd fhd qhd uhd definition high-definition sdr avcc yuv ycbcr planar sampling subsampling linear scan colour color chroma surround sound joint channel
wide screen widescreen landscape horizontal dimension resolution width height pixel px picture frame video audio sound rate rates frames size quality overall base advanced basic general technical
interval distance key structure closed-type length duration period ratio aspect profile level layer version family based-on compliant compatible conformant according standard compression format
bitrate bit data speed figure amount total-of stereo-pair depth per-sample per-picture entropy coding slices order field fields dominant space primaries transfer matrix
region server url address port endpoint protocol transport connect connection entry point ingestion secure encrypted unencrypted plain tls ssl
event events session long last lasts may-last take takes until after before when-the since within-a wait about-it time times appears appear shown visible viewers see
second-of hours-long valid validity lifetime expires life lives account accounts new first
roughly say e.g eg i.e ie etc
darf dürfen dauern dauert gilt gültig lang nach läuft ab d'une d'un après valable dura caduca expira como expire tras dopo scade può durare verloopt na duren
dfs ist sind wird werden est sont être es son è sono
entre zwischen tra toutes tous cada ogni alle jede jeder jedes chaque elke varje hver essence hinaus wert angabe oder-so liefern verwenden einstellen
"""

# words that begin a condition: what stands behind decides about what stands before
_IFS = "if|when|unless|except|except for|but only|only if|only when|only for|depending on|depends on|provided|provided that|in case|falls|wenn|außer|sauf|si|excepto|salvo|se|tranne|otherwise|for subscriber|until further notice|while|where|whenever|as long as|subject to"
_WORDS = {
    WordKind.OR: "or|oder|ou|o|of|eller|and or|as well as|resp|or else|or alternatively|alternatively|bzw|tai|sowie",
    WordKind.AND: "and|und|et|y|e|en|och|og|plus|ja|but|aber|mais|pero|ma|sowie auch",
    WordKind.TO: "to|bis|à|a|hasta|fino a|till|through|thru|until|tot|til",
    WordKind.TIMES: "x|time|times|×|mal|fois|veces|volte",
    WordKind.APPROX: "about|around|approx|approximately|ca|circa|roughly|some|near|nearly|almost|etwa|rund|ungefähr|environ|aproximadamente|approssimativamente|~",
}  # fmt: skip

_NUMBER_WORDS = {"one": 1, "two": 2, "three": 3, "four": 4, "five": 5, "six": 6, "seven": 7, "eight": 8, "nine": 9, "ten": 10, "twelve": 12, "twenty": 20, "thirty": 30, "zero": 0,
                 "zwei": 2, "drei": 3, "vier": 4, "deux": 2, "trois": 3, "quatre": 4, "dos": 2, "tres": 3, "cuatro": 4, "due": 2, "tre": 3, "quattro": 4}  # fmt: skip
_AS_THEY_ARE = frozenset(
    ["rtmps", "kbps", "mbps", "bps", "fps", "gbps", "ips", "das", "ms", "pos", "las", "los", "les", "des"]
)


def singular(word: str) -> str:
    """A word without a plural's s: both what is looked up and what it is looked up in go through here."""
    if len(word) > 3 and word[-1] == "s" and word[-2] not in "su'" and word not in _AS_THEY_ARE:
        return word[:-1]
    return word


@dataclass(frozen=True, slots=True)
class Meaning:
    """What a phrase is; ``only``: each meaning that it has where the row or clause speaks of the parameter named."""

    kind: WordKind
    value: object = None
    only: tuple[tuple[str, tuple[tuple[str, str], ...]], ...] = ()


def _phrases(listed: str) -> Iterator[tuple[str, ...]]:
    for phrase in listed.replace("\n", "").split("|"):
        words = tuple(singular(word) for word in re.split(r"[\s-]+", phrase.strip()) if word)
        if words:
            yield words


def _build() -> dict[tuple[str, ...], Meaning]:
    """All phrases; what is entered later wins, and values keep what the phrase means elsewhere."""
    made: dict[tuple[str, ...], Meaning] = {}

    def enter(kind: WordKind, value: object, listed: str) -> None:
        for words in _phrases(listed):
            made[words] = Meaning(kind, value)

    for word in _FILLER.split():
        made[tuple(singular(w) for w in word.split("-"))] = Meaning(WordKind.FILLER)
    enter(WordKind.OTHER, None, _OTHER)
    enter(WordKind.COLUMN, "name", _COLUMNS)
    enter(WordKind.COLUMN, "label", _LABELS)
    enter(WordKind.COLUMN, "note", _NOTES)
    enter(WordKind.COLUMN, "unit", _UNIT_HEADS)
    enter(WordKind.COLUMN, "default", _DEFAULTS)
    for role, listed in _ROLES.items():
        enter(WordKind.ROLE, role, listed)
    for subject, listed in _SUBJECTS.items():
        enter(WordKind.SUBJECT, subject, listed)
    for line in _TOPICS.strip().splitlines():
        topic, _, listed = line.partition(": ")
        enter(WordKind.TOPIC, topic, listed)
    for kind, listed in _WORDS.items():
        enter(kind, None, listed)
    enter(WordKind.IF, None, _IFS)
    enter(WordKind.SOURCE, None, _SOURCES)
    for (measures, factor), listed in _UNITS.items():
        for words in _phrases(listed):
            if words not in made or made[words].kind is not WordKind.TOPIC:
                made[words] = Meaning(WordKind.UNIT, UnitWord(measures, factor))
    for limit, listed in _LIMITS.items():
        enter(WordKind.LIMIT, limit, listed)
    for strength, listed in _STRENGTHS.items():
        enter(WordKind.STRENGTH, strength, listed)
    for mode, listed in _MODES.items():
        enter(WordKind.MODE, mode, listed)
    for word, number in _NUMBER_WORDS.items():
        made[(word,)] = Meaning(WordKind.NUMBER, float(number))
    _enter_values(made)
    return made


def _enter_values(made: dict[tuple[str, ...], Meaning]) -> None:
    """Values keep what the phrase means elsewhere."""
    for line in _VALUES.strip().splitlines():
        head, _, listed = line.partition(": ")
        pairs, _, where = head.partition(" @")
        values = tuple((name, value) for name, _, value in (pair.partition("=") for pair in _pairs(pairs)))
        for words in _phrases(listed):
            old = made.get(words)
            if not where:
                made[words] = Meaning(WordKind.VALUE, values, old.only if old else ())
            else:
                base = old or Meaning(WordKind.WORD)
                made[words] = Meaning(base.kind, base.value, (*base.only, (where, values)))


def _pairs(text: str) -> list[str]:
    """``a=b c d=e`` cut before each name that an equals sign follows."""
    return re.split(r"\s+(?=[a-z_.]+=)", text)


PHRASES = _build()
UNITS = {words: UnitWord(measures, factor) for (measures, factor), listed in _UNITS.items() for words in _phrases(listed)}
LONGEST: dict[str, int] = {}
for _words in PHRASES:
    LONGEST[_words[0]] = max(LONGEST.get(_words[0], 0), len(_words))
BARE_MODES = {words: mode for mode, listed in _BARE_MODES.items() for words in _phrases(listed)}
