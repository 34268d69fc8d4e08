"""The simulated cameras against the open standard: raw requests to an Osier and a Fescue, and raw probes."""

import http.client
import unittest
import uuid

from lxml import etree

from direkt.sim.beacon import Beacon
from direkt.sim.fescue import Fescue
from direkt.sim.osier import Osier

ENVELOPE = '<s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope" xmlns:tt="http://www.onvif.org/ver10/schema">{header}<s:Body>{body}</s:Body></s:Envelope>'
TDS, TRT, TR2, PTZ = (f"http://www.onvif.org/{x}/wsdl" for x in ("ver10/device", "ver10/media", "ver20/media", "ver20/ptz"))


class Cameras(unittest.TestCase):
    def ask(self, camera, space, operation, inner="", *, chunked=False):
        """The response element, or the innermost subcode of a fault."""
        if not camera.web.is_open:
            camera.start()
            self.addCleanup(camera.stop)
        body = ENVELOPE.format(header="", body=f'<o:{operation} xmlns:o="{space}">{inner}</o:{operation}>').encode()
        connection = http.client.HTTPConnection("127.0.0.1", camera.port, timeout=10)
        import base64

        headers = {"Content-Type": "application/soap+xml", "Authorization": "Basic " + base64.b64encode(b"op:regatta-1").decode()}
        path = "/onvif/device_service"
        if chunked:
            pieces = [body[n : n + 50] for n in range(0, len(body), 50)]
            connection.request("POST", path, iter(pieces), headers, encode_chunked=True)
        else:
            connection.request("POST", path, body, headers)
        answer = connection.getresponse()
        root = etree.fromstring(answer.read())
        connection.close()
        inner = root[-1][0]
        if etree.QName(inner).localname == "Fault":
            values = [e.text.rpartition(":")[2] for e in inner.iter("{http://www.w3.org/2003/05/soap-envelope}Value")]
            return values[-1]
        return inner

    @staticmethod
    def texts(element, name):
        return [e.text for e in element.iter() if etree.QName(e).localname == name]

    def setUp(self):
        self.osier, self.fescue = Osier("op", "regatta-1", schemes=("basic",)), Fescue("op", "regatta-1", schemes=("basic",))


class Media(Cameras):
    def test_profiles_by_token_and_type(self):
        camera = self.osier
        token = next(iter(camera.streams))
        none = self.ask(camera, TR2, "GetProfiles")
        self.assertEqual((len(none), self.texts(none, "VideoEncoder")), (len(camera.streams), []))
        one = self.ask(camera, TR2, "GetProfiles", f"<o:Token>{token}</o:Token><o:Type>VideoEncoder</o:Type>")
        self.assertEqual((len(one), len(self.texts(one, "VideoEncoder")), self.texts(one, "VideoSource")), (1, 1, []))
        every = self.ask(camera, TR2, "GetProfiles", "<o:Type>All</o:Type>")
        self.assertEqual(len(self.texts(every, "VideoSource")), len(camera.streams))
        self.assertEqual(self.ask(camera, TR2, "GetProfiles", "<o:Token>nobody</o:Token>"), "NoProfile")
        self.assertEqual(self.ask(camera, TR2, "GetProfiles", "<o:Type>Smell</o:Type>"), "InvalidArgVal")

    def test_unknown_tokens_are_refused(self):
        for camera in (self.osier, self.fescue):
            for space, operation, inner, code in (
                (TRT, "GetProfile", "<o:ProfileToken>x</o:ProfileToken>", "NoProfile"),
                (TRT, "GetVideoEncoderConfiguration", "<o:ConfigurationToken>x</o:ConfigurationToken>", "NoConfig"),
                (TRT, "GetVideoEncoderConfigurationOptions", "<o:ConfigurationToken>x</o:ConfigurationToken>", "NoConfig"),
                (TRT, "GetSnapshotUri", "<o:ProfileToken>x</o:ProfileToken>", "NoProfile"),
                (TRT, "GetStreamUri", "<o:ProfileToken>x</o:ProfileToken>", "NoProfile"),
                (TRT, "GetAudioEncoderConfigurationOptions", "<o:ProfileToken>x</o:ProfileToken>", "NoProfile"),
            ):
                self.assertEqual(self.ask(camera, space, operation, inner), code, (camera.make.model, operation))
        self.assertEqual(self.ask(self.osier, TRT, "GetAudioEncoderConfiguration", "<o:ConfigurationToken>x</o:ConfigurationToken>"), "NoConfig")

    def test_multicast_quality_and_session_timeout_are_kept(self):
        camera = self.osier
        coder = next(iter(camera.streams.values())).coder
        config = (
            f'<o:Configuration token="{coder.token}"><tt:Name>a</tt:Name><tt:UseCount>1</tt:UseCount><tt:Encoding>H264</tt:Encoding>'
            "<tt:Resolution><tt:Width>1280</tt:Width><tt:Height>720</tt:Height></tt:Resolution><tt:Quality>3</tt:Quality>"
            "<tt:RateControl><tt:FrameRateLimit>25</tt:FrameRateLimit><tt:EncodingInterval>1</tt:EncodingInterval><tt:BitrateLimit>2300</tt:BitrateLimit></tt:RateControl>"
            "<tt:H264><tt:GovLength>50</tt:GovLength><tt:H264Profile>Main</tt:H264Profile></tt:H264>"
            "<tt:Multicast><tt:Address><tt:Type>IPv4</tt:Type><tt:IPv4Address>{group}</tt:IPv4Address></tt:Address><tt:Port>5004</tt:Port><tt:TTL>3</tt:TTL>"
            "<tt:AutoStart>true</tt:AutoStart></tt:Multicast><tt:SessionTimeout>PT30S</tt:SessionTimeout></o:Configuration><o:ForcePersistence>true</o:ForcePersistence>"
        )
        self.assertEqual(self.ask(camera, TRT, "SetVideoEncoderConfiguration", config.replace("{group}", "10.1.2.3")), "ConfigModify")
        self.ask(camera, TRT, "SetVideoEncoderConfiguration", config.replace("{group}", "239.1.2.3"))
        got = self.ask(camera, TRT, "GetVideoEncoderConfiguration", f"<o:ConfigurationToken>{coder.token}</o:ConfigurationToken>")
        found = [self.texts(got, name)[0] for name in ("Quality", "IPv4Address", "Port", "TTL", "AutoStart", "SessionTimeout")]
        self.assertEqual(found, ["3", "239.1.2.3", "5004", "3", "true", "PT30S"])

    def test_positions_come_and_go(self):
        camera = self.osier
        profile = f"<o:ProfileToken>{next(iter(camera.streams))}</o:ProfileToken>"
        before = len(self.ask(camera, PTZ, "GetPresets", profile))
        token = self.texts(self.ask(camera, PTZ, "SetPreset", profile + "<o:PresetName>Jury</o:PresetName>"), "PresetToken")[0]
        self.assertEqual(len(self.ask(camera, PTZ, "GetPresets", profile)), before + 1)
        drop = profile + f"<o:PresetToken>{token}</o:PresetToken>"
        self.ask(camera, PTZ, "RemovePreset", drop)
        self.assertEqual(len(self.ask(camera, PTZ, "GetPresets", profile)), before)
        self.assertEqual(self.ask(camera, PTZ, "RemovePreset", drop), "NoToken")
        self.assertEqual(self.ask(camera, PTZ, "GetPresets", "<o:ProfileToken>x</o:ProfileToken>"), "NoProfile")


class Device(Cameras):
    def test_categories(self):
        for wanted, names in ((("All",), {"Device", "Media", "PTZ"}), (("Media",), {"Media"}), (("Media", "Device"), {"Media", "Device"}), ((), {"Device", "Media", "PTZ"})):
            got = self.ask(self.osier, TDS, "GetCapabilities", "".join(f"<o:Category>{w}</o:Category>" for w in wanted))
            self.assertEqual({etree.QName(e).localname for e in got[0]}, names)
        self.assertEqual(self.ask(self.fescue, TDS, "GetCapabilities", "<o:Category>PTZ</o:Category>"), "NoSuchService")
        self.assertEqual(self.ask(self.fescue, TDS, "GetCapabilities", "<o:Category>Coffee</o:Category>"), "InvalidArgVal")

    def test_ntp_by_name_and_address(self):
        inner = (
            "<o:FromDHCP>false</o:FromDHCP><o:NTPManual><tt:Type>DNS</tt:Type><tt:DNSname>time.example</tt:DNSname></o:NTPManual>"
            "<o:NTPManual><tt:Type>IPv4</tt:Type><tt:IPv4Address>192.0.2.1</tt:IPv4Address></o:NTPManual>"
            "<o:NTPManual><tt:Type>IPv6</tt:Type><tt:IPv6Address>2001:db8::1</tt:IPv6Address></o:NTPManual>"
        )
        self.ask(self.osier, TDS, "SetNTP", inner)
        got = self.ask(self.osier, TDS, "GetNTP")
        self.assertEqual(self.texts(got, "Type"), ["DNS", "IPv4", "IPv6"])
        self.assertEqual((self.texts(got, "DNSname"), self.texts(got, "IPv6Address")), (["time.example"], ["2001:db8::1"]))

    def test_users(self):
        user = "<o:User><tt:Username>{}</tt:Username><tt:Password>{}</tt:Password><tt:UserLevel>Administrator</tt:UserLevel></o:User>"
        self.assertEqual(self.ask(self.osier, TDS, "SetUser", user.format("nobody", "regatta-22")), "UsernameMissing")
        self.assertEqual(self.ask(self.osier, TDS, "SetUser", user.format("op", "short")), "PasswordTooWeak")
        self.ask(self.osier, TDS, "SetUser", user.format("op", "regatta-22"))
        self.assertEqual(self.osier.login.password, "regatta-22")

    def test_a_request_in_chunks(self):
        got = self.ask(self.fescue, TDS, "GetDeviceInformation", chunked=True)
        self.assertEqual(self.texts(got, "Model"), [self.fescue.make.model])


WSD, WSA = "http://schemas.xmlsoap.org/ws/2005/04/discovery", "http://schemas.xmlsoap.org/ws/2004/08/addressing"
SCOPES = ["onvif://www.onvif.org/type/video_encoder", "onvif://www.onvif.org/name/Start%20pontoon", "onvif://www.onvif.org/location/lake/varn"]


class Probes(unittest.TestCase):
    def setUp(self):
        self.beacon = Beacon(lambda: (SCOPES, ["http://192.0.2.7/onvif/device_service"]))

    def send(self, body, action="Probe", ident=None):
        header = (
            f'<s:Header><a:Action xmlns:a="{WSA}">{WSD}/{action}</a:Action><a:MessageID xmlns:a="{WSA}">{ident or f"urn:uuid:{uuid.uuid4()}"}</a:MessageID>'
            f'<a:To xmlns:a="{WSA}">urn:schemas-xmlsoap-org:ws:2005:04:discovery</a:To></s:Header>'
        )
        data = self.beacon.answer(ENVELOPE.format(header=header, body=body).encode())
        return etree.fromstring(data) if data else None

    def probe(self, types="", scopes="", by="", ident=None):
        by = f' MatchBy="{by}"' if by else ""
        return self.send(
            f'<d:Probe xmlns:d="{WSD}" xmlns:n="http://www.onvif.org/ver10/network/wsdl" xmlns:v="http://www.onvif.org/ver10/device/wsdl" xmlns:x="http://example.com/x">'
            f"<d:Types>{types}</d:Types><d:Scopes{by}>{scopes}</d:Scopes></d:Probe>", ident=ident,
        )  # fmt: skip

    def test_types_are_compared_with_their_namespaces(self):
        for types, there in (("n:NetworkVideoTransmitter", True), ("v:Device", True), ("n:NetworkVideoTransmitter v:Device", True), ("x:Device", False), ("n:Toaster", False), ("", True)):
            self.assertEqual(self.probe(types) is not None, there, types)

    def test_scopes_are_compared_by_whole_steps(self):
        strcmp, none = f"{WSD}/strcmp0", f"{WSD}/none"
        for scopes, by, there in (
            ("onvif://www.onvif.org/type", "", True), ("onvif://www.onvif.org/type/video", "", False), ("ONVIF://WWW.onvif.org/type/video_encoder", "", True),
            ("onvif://www.onvif.org/location/lake/varn/pontoon", "", False), ("onvif://www.onvif.org/name/Start%20pontoon", "", True),
            ("onvif://www.onvif.org/Type", "", False), ("onvif://www.onvif.org", "", True), ("onvif://www.onvif.org/type onvif://www.onvif.org/nothing", "", False),
            (SCOPES[0], strcmp, True), ("onvif://www.onvif.org/type", strcmp, False), ("", none, False), (SCOPES[0], "http://example.com/own", False),
        ):  # fmt: skip
            self.assertEqual(self.probe(scopes=scopes, by=by) is not None, there, (scopes, by))

    def test_a_probe_that_is_sent_twice_is_answered_once(self):
        ident = f"urn:uuid:{uuid.uuid4()}"
        self.assertIsNotNone(self.probe(ident=ident))
        self.assertIsNone(self.probe(ident=ident))
        self.assertIsNotNone(self.probe())

    def test_answers_are_numbered(self):
        orders = [next(self.probe().iter(f"{{{WSD}}}AppSequence")) for _ in range(3)]
        self.assertEqual([int(o.get("MessageNumber")) for o in orders], [1, 2, 3])
        self.assertEqual(len({o.get("InstanceId") for o in orders}), 1)

    def test_resolve(self):
        body = '<d:Resolve xmlns:d="{}"><a:EndpointReference xmlns:a="{}"><a:Address>{}</a:Address></a:EndpointReference></d:Resolve>'
        found = self.send(body.format(WSD, WSA, self.beacon.endpoint), "Resolve")
        self.assertEqual(next(found.iter(f"{{{WSD}}}XAddrs")).text, "http://192.0.2.7/onvif/device_service")
        self.assertEqual(etree.QName(found[-1][0]).localname, "ResolveMatches")
        self.assertIsNone(self.send(body.format(WSD, WSA, "urn:uuid:somebody-else"), "Resolve"))
