"""A camera of the open standard that shares no code with ours: bytes written by hand, with other makers' habits."""

import base64
import datetime
import hashlib
import http.server
import re
import threading

DEVICE = "http://www.onvif.org/ver10/device/wsdl"
MEDIA = "http://www.onvif.org/ver10/media/wsdl"
MEDIA2 = "http://www.onvif.org/ver20/media/wsdl"

ENVELOPE = (
    '<?xml version="1.0" encoding="utf-8" ?>\n<SOAP-ENV:Envelope xmlns:SOAP-ENV="http://www.w3.org/2003/05/soap-envelope" '
    'xmlns:a="http://www.onvif.org/ver10/device/wsdl" xmlns:b="http://www.onvif.org/ver10/media/wsdl" '
    'xmlns:c="http://www.onvif.org/ver20/media/wsdl" xmlns:x="http://www.onvif.org/ver10/schema">'
    "<SOAP-ENV:Header/><SOAP-ENV:Body>{}</SOAP-ENV:Body></SOAP-ENV:Envelope>\n"
)


def fault12(*codes, reason=""):
    inner = ""
    for code in reversed(codes):
        inner = f"<SOAP-ENV:Subcode><SOAP-ENV:Value>z:{code}</SOAP-ENV:Value>{inner}</SOAP-ENV:Subcode>"
    return ENVELOPE.format(
        f"<SOAP-ENV:Fault><SOAP-ENV:Code><SOAP-ENV:Value>SOAP-ENV:Sender</SOAP-ENV:Value>{inner}</SOAP-ENV:Code>"
        f"<SOAP-ENV:Reason><SOAP-ENV:Text xml:lang='en'>{reason}</SOAP-ENV:Text></SOAP-ENV:Reason></SOAP-ENV:Fault>"
    )  # fmt: skip


def fault11(code, reason):
    return (
        '<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><e:Fault>'
        f"<faultcode>e:{code}</faultcode><faultstring>{reason}</faultstring></e:Fault></e:Body></e:Envelope>"
    )


VIDEO = (
    '<x:VideoEncoderConfiguration token="V_1"><x:Name>{name}</x:Name><x:UseCount>2</x:UseCount>'
    "<x:Encoding>H264</x:Encoding><x:Resolution><x:Width>1920</x:Width><x:Height>1080</x:Height></x:Resolution><x:Quality>4.000000</x:Quality>"
    "<x:RateControl><x:FrameRateLimit>25</x:FrameRateLimit><x:EncodingInterval>1</x:EncodingInterval><x:BitrateLimit>4096</x:BitrateLimit></x:RateControl>"
    "<x:H264><x:GovLength>50</x:GovLength><x:H264Profile>High</x:H264Profile></x:H264>"
    "<x:Multicast><x:Address><x:Type>IPv4</x:Type><x:IPv4Address>224.1.2.3</x:IPv4Address></x:Address><x:Port>5000</x:Port><x:TTL>64</x:TTL><x:AutoStart>false</x:AutoStart></x:Multicast>"
    "<x:SessionTimeout>PT00H12M00S</x:SessionTimeout></x:VideoEncoderConfiguration>"
)


class Foreign:
    """Answers as ``answers`` says: operation to the body's inside, a whole envelope, or a function of the request."""

    def __init__(self, answers=None, **habits):
        self.habits = {"user": "admin", "password": "secret-1", "auth": "token", "clock": 0.0, **habits}
        self.requests: list[tuple[str, bytes]] = []
        self.bad_logins = 0
        self.set: list[bytes] = []
        self.answers = {**self.usual(), **(answers or {})}
        camera = self

        class Handler(http.server.BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"
            disable_nagle_algorithm = True

            def log_message(self, *_):
                pass

            def do_POST(self):
                body = self.rfile.read(int(self.headers.get("Content-Length", 0)))
                status, headers, content = camera.serve(self.path, dict(self.headers), body)
                raw = content if isinstance(content, bytes) else content.encode()
                self.send_response(status)
                for name, value in headers:
                    self.send_header(name, value)
                self.send_header("Content-Length", str(len(raw)))
                self.end_headers()
                self.wfile.write(raw)

            do_GET = do_POST  # noqa: N815

        self.server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.server.daemon_threads = True
        threading.Thread(target=self.server.serve_forever, args=(0.02,), daemon=True).start()
        self.address = f"http://127.0.0.1:{self.server.server_port}"

    def close(self):
        self.server.shutdown()
        self.server.server_close()

    def serve(self, path, headers, body):
        match = re.search(rb"<(?:\w+:)?Body[^>]*>\s*<(?:\w+:)?(\w+)", body)
        operation = match[1].decode() if match else ""
        self.requests.append((operation, body))
        answer = self.answers.get(operation)
        if operation not in self.habits.get(
            "open", ("GetSystemDateAndTime", "GetServices", "GetCapabilities")
        ) and not self.admits(body, headers):
            if self.habits["auth"] == "digest":
                return 401, [("WWW-Authenticate", 'Digest realm="cam", nonce="abc", qop="auth"')], ""
            return (
                self.habits.get("status", 400), [],
                self.habits.get("refusal") or fault12("NotAuthorized", reason="Sender not authorized"),
            )
        if callable(answer):
            answer = answer(body)
        if answer is None:
            return 500, [], fault12("ActionNotSupported", reason="Optional Action Not Implemented")
        if isinstance(answer, tuple):
            return answer
        whole = answer if "Envelope" in answer else ENVELOPE.format(answer)
        return (500 if "Fault>" in whole else 200), [("Content-Type", "application/soap+xml")], whole

    def admits(self, body, headers):
        if self.habits["auth"] == "none":
            return True
        if self.habits["auth"] == "digest":
            said = headers.get("Authorization", "")
            if not said:
                return False
            f = {k: a or b for k, a, b in re.findall(r'(\w+)=(?:"([^"]*)"|([^\s,]+))', said)}

            def md5(text):
                return hashlib.md5(text.encode(), usedforsecurity=False).hexdigest()

            want = md5(
                ":".join(
                    (
                        md5(f"{self.habits['user']}:cam:{self.habits['password']}"), f["nonce"], f["nc"], f["cnonce"], f["qop"],
                        md5(f"POST:{f['uri']}"),
                    )
                )
            )
            self.bad_logins += f["response"] != want
            return f["response"] == want
        text = body.decode()
        if "UsernameToken" not in text:
            return False
        nonce = base64.b64decode(re.search(r"<(?:\w+:)?Nonce[^>]*>([^<]*)", text)[1])
        created = re.search(r"<(?:\w+:)?Created[^>]*>([^<]*)", text)[1]
        given = re.search(r"<(?:\w+:)?Password[^>]*>([^<]*)", text)[1]
        want = base64.b64encode(hashlib.sha1(nonce + created.encode() + self.habits["password"].encode()).digest()).decode()
        age = self.now() - datetime.datetime.fromisoformat(created.replace("Z", "+00:00"))
        right = given == want and abs(age.total_seconds()) < 5 and f">{self.habits['user']}<" in text
        self.bad_logins += not right
        return right

    def now(self):
        return datetime.datetime.now(datetime.UTC) + datetime.timedelta(seconds=self.habits["clock"])

    def usual(self):
        def clock(_):
            n = self.now()
            return (
                "<a:GetSystemDateAndTimeResponse><a:SystemDateAndTime><x:DateTimeType>Manual</x:DateTimeType><x:DaylightSavings>false</x:DaylightSavings>"
                f"<x:UTCDateTime><x:Time><x:Hour>{n.hour}</x:Hour><x:Minute>{n.minute}</x:Minute><x:Second>{n.second}</x:Second></x:Time>"
                f"<x:Date><x:Year>{n.year}</x:Year><x:Month>{n.month}</x:Month><x:Day>{n.day}</x:Day></x:Date></x:UTCDateTime>"
                "</a:SystemDateAndTime></a:GetSystemDateAndTimeResponse>"
            )

        def take(body):
            self.set.append(body)
            return "<b:SetVideoEncoderConfigurationResponse/>"

        return {
            "GetSystemDateAndTime": clock,
            # an old device: no GetServices, and addresses of its inner network
            "GetCapabilities": "<a:GetCapabilitiesResponse><a:Capabilities><x:Media><x:XAddr>http://192.168.77.5/onvif/Media_Service</x:XAddr></x:Media></a:Capabilities></a:GetCapabilitiesResponse>",
            "GetDeviceInformation": "<a:GetDeviceInformationResponse><a:Manufacturer>Heron &amp; Sons</a:Manufacturer><a:Model>Reed 7</a:Model><a:FirmwareVersion> V1.0\n build 7 </a:FirmwareVersion></a:GetDeviceInformationResponse>",
            "GetProfiles": f'<b:GetProfilesResponse><b:Profiles token="P_1" fixed="TRUE"><x:Name>Stream &lt;1&gt;</x:Name>{VIDEO.format(name="enc")}</b:Profiles></b:GetProfilesResponse>',
            "SetVideoEncoderConfiguration": take,
        }  # fmt: skip
