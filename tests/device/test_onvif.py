"""The driver for the cameras' open standard against a camera that shares no code with it."""

import datetime
import os
import re
import sys
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

from lxml import etree

from direkt.described.errors import ChangeRefused, DeviceError, DeviceLoginRefused, NotOffered, Unreachable
from direkt.device.onvif import client, manage
from direkt.device.onvif.driver import Driver
from direkt.secret import Secret
from direkt.sim import unit
from direkt.sim.fescue import Fescue
from direkt.sim.osier import Osier
from tests.device.foreign import ENVELOPE, MEDIA2, Foreign, fault11, fault12

OPTIONS = (
    "<b:GetVideoEncoderConfigurationOptionsResponse><b:Options><x:QualityRange><x:Min>0</x:Min><x:Max>100</x:Max></x:QualityRange><x:H264>"
    "<x:ResolutionsAvailable><x:Width>1920</x:Width><x:Height>1080</x:Height></x:ResolutionsAvailable>"
    "<x:ResolutionsAvailable><x:Width>1280</x:Width><x:Height>720</x:Height></x:ResolutionsAvailable>"
    "<x:GovLengthRange><x:Min>1</x:Min><x:Max>400</x:Max></x:GovLengthRange><x:FrameRateRange><x:Min>1</x:Min><x:Max>30</x:Max></x:FrameRateRange>"
    "<x:EncodingIntervalRange><x:Min>1</x:Min><x:Max>1</x:Max></x:EncodingIntervalRange><x:H264ProfilesSupported>Baseline</x:H264ProfilesSupported>"
    "<x:H264ProfilesSupported>High</x:H264ProfilesSupported></x:H264></b:Options></b:GetVideoEncoderConfigurationOptionsResponse>"
)


class Cameras(unittest.TestCase):
    def camera(self, answers=None, **habits) -> Foreign:
        made = Foreign(answers, **habits)
        self.addCleanup(made.close)
        return made

    def talk(self, camera: Foreign, password: str | None = "secret-1") -> Driver:
        made = Driver("pond", camera.address, None if password is None else ("admin", Secret(password)))
        self.addCleanup(made.close)
        return made


class Reading(Cameras):
    def test_other_prefixes_and_missing_parts(self):
        state = self.talk(self.camera()).read()
        self.assertEqual((state.make, state.model, state.firmware), ("Heron & Sons", "Reed 7", "V1.0 build 7"))
        channel = state.channels["main"]
        self.assertEqual(channel.title, "Stream <1>")
        self.assertEqual(channel.values, {
            "video.codec": "h264", "video.size": "1920x1080", "video.frame_rate": 25, "video.bitrate.mean": 4096, "video.profile": "high",
            "video.keyframe_interval.median": 2, "audio.present": "no",
        })  # fmt: skip
        self.assertEqual(dict(channel.limits), {}, "nothing is made up")
        said = " ".join(state.remarks)
        for words in (
            "limits of Stream <1> not reported", "what the sensor gives not reported", "stream address of main not reported",
        ):
            self.assertIn(words, said)
        self.assertIs(state.channel("Stream <1>"), channel)

    def test_every_scheme_of_login_is_answered_once(self):
        for auth in ("token", "digest"):
            for clock in (0.0, -7300.0, 86400.0 * 800):
                camera = self.camera(auth=auth, clock=clock)
                self.assertEqual(self.talk(camera).read().model, "Reed 7", (auth, clock))
                self.assertEqual(camera.bad_logins, 0)
                wrong = self.talk(camera, "wrong")
                with self.assertRaises(DeviceLoginRefused) as caught:
                    wrong.read()
                for _ in range(3):
                    with self.assertRaisesRegex(DeviceLoginRefused, "not sent again"):
                        wrong.read()
                self.assertEqual(camera.bad_logins, 1, "once, and never again")
                text = str(caught.exception)
                self.assertIn("digest MD5" if auth == "digest" else "token of WS-Security", text)
                self.assertEqual("its clock is" in text, auth == "token" and clock != 0.0, text)
                self.assertNotIn("wrong:", text)

    def test_without_a_login_it_says_what_is_wanted(self):
        for auth, words in (("token", "wants a login"), ("digest", "wants a login (digest MD5)")):
            with self.assertRaises(DeviceLoginRefused) as caught:
                self.talk(self.camera(auth=auth), None).read()
            self.assertIn(words, str(caught.exception))

    def test_a_clock_that_is_not_told_in_utc(self):
        def local(zone, summer, hours):
            n = datetime.datetime.now(datetime.UTC) + datetime.timedelta(hours=hours)
            return (
                f"<a:R><a:SystemDateAndTime><x:DateTimeType>NTP</x:DateTimeType><x:DaylightSavings>{summer}</x:DaylightSavings><x:TimeZone><x:TZ>{zone}</x:TZ></x:TimeZone>"
                f"<x:LocalDateTime><x:Date><x:Day>{n.day}</x:Day><x:Month>{n.month}</x:Month><x:Year>{n.year}</x:Year></x:Date>"
                f"<x:Time><x:Second>{n.second}</x:Second><x:Minute>{n.minute}</x:Minute><x:Hour>{n.hour}</x:Hour></x:Time></x:LocalDateTime></a:SystemDateAndTime></a:R>"
            )  # fmt: skip

        for zone, summer, hours in (
            ("CST-8", "false", 8), ("&lt;+0530&gt;-5:30", "0", 5.5), ("EST5EDT,M3.2.0,M11.1.0", "true", -4),
        ):
            camera = self.camera({"GetSystemDateAndTime": local(zone, summer, hours)})
            found = self.talk(camera).clock()
            self.assertLess(abs(found.offset), 2, zone)
            self.assertTrue(found.by_ntp)
        nonsense = local("X", "no", 0).replace("<x:Month>", "<x:Month>9")
        found = self.talk(self.camera({"GetSystemDateAndTime": nonsense})).clock()
        self.assertLess(abs(found.offset), 3, "then the time of the answer itself counts")

    def test_services_of_another_host_are_asked_at_the_one_we_know(self):
        told = (
            '<a:GetServicesResponse>'
            f'<a:Service><a:Namespace>{MEDIA2}</a:Namespace><a:XAddr>http://10.9.8.7:8999/m2?x=1</a:XAddr></a:Service>'
            '<a:Service><a:Namespace>http://www.onvif.org/ver10/media/wsdl</a:Namespace><a:XAddr>https://cam.example/m1</a:XAddr></a:Service></a:GetServicesResponse>'
        )  # fmt: skip
        camera = self.camera({"GetServices": told})
        talk = self.talk(camera)
        self.assertEqual(sorted(talk.client.services().values()), ["/m1", "/m2?x=1", "/onvif/device_service"])
        state = talk.read()
        self.assertIn("Media2", " ".join(state.remarks))
        self.assertEqual(state.channels["main"].values["video.size"], "1920x1080", "Media serves where Media2 does not")

    def test_media2_with_h265(self):
        profiles = (
            '<c:GetProfilesResponse><c:Profiles token="m"><c:Name>m</c:Name><c:Configurations><c:VideoEncoder token="v" GovLength="100" Profile="Main">'
            "<x:Name>v</x:Name><x:UseCount>1</x:UseCount><x:Encoding>H265</x:Encoding><x:Resolution><x:Width>2560</x:Width><x:Height>1440</x:Height></x:Resolution>"
            '<x:RateControl ConstantBitRate="true"><x:FrameRateLimit>29.97</x:FrameRateLimit><x:BitrateLimit>6000</x:BitrateLimit></x:RateControl><x:Quality>3</x:Quality>'
            "</c:VideoEncoder></c:Configurations></c:Profiles></c:GetProfilesResponse>"
        )
        options = (
            "<c:GetVideoEncoderConfigurationOptionsResponse>"
            '<c:Options FrameRatesSupported="29.97 25 12.5" GovLengthRange="1 300" ProfilesSupported="Main Main10" ConstantBitRateSupported="1"><x:Encoding>H265</x:Encoding>'
            "<x:ResolutionsAvailable><x:Width>2560</x:Width><x:Height>1440</x:Height></x:ResolutionsAvailable><x:BitrateRange><x:Min>128</x:Min><x:Max>9000</x:Max></x:BitrateRange></c:Options>"
            '<c:Options GovLengthRange="25" FrameRatesSupported="fast"><x:Encoding>H264</x:Encoding></c:Options></c:GetVideoEncoderConfigurationOptionsResponse>'
        )
        services = f"<a:R><a:Service><a:Namespace>{MEDIA2}</a:Namespace><a:XAddr>/m2</a:XAddr></a:Service></a:R>"
        camera = self.camera({"GetServices": services, "GetProfiles": profiles, "GetVideoEncoderConfigurationOptions": options})
        channel = self.talk(camera).read().channels["main"]
        self.assertEqual(channel.values["video.codec"], "h265")
        self.assertEqual(channel.values["video.keyframe_interval.median"], 3.3367)
        self.assertEqual(channel.values["video.rate_control"], "cbr")
        self.assertEqual(channel.limits["video.codec"].one_of, ("h265", "h264"))
        self.assertEqual(channel.limits["video.frame_rate"].one_of, (29.97, 25, 12.5))
        self.assertEqual([law.pictures for law in channel.together], [(1, 300)])

    def test_what_answers_wrongly_is_said(self):
        for answer, words in (
            ((200, [], "<html><body>Hello</body></html>"), "does it speak ONVIF"), ((404, [], "nothing"), "does not offer"),
            ((302, [("Location", "https://op:pw@cam.example/x")], ""), "sends GetProfiles on to https:cam.example/x"), ((200, [], "<a"), "not valid XML"),
            ((200, [], '<!DOCTYPE a [<!ENTITY e "x">]><a>&e;</a>'), "document type"), ((200, [], ENVELOPE.format("")), "empty body"),
            (fault12("InvalidArgVal", "NoProfile", reason="no\x1b[2J such"), "no such|not valid XML"), (fault11("Client.Wrong", "that is wrong"), "that is wrong (Wrong)"),
            ("<b:GetProfilesResponse/>", "no profile with a video encoder"),
        ):  # fmt: skip
            with self.subTest(words=words), self.assertRaises(DeviceError) as caught:
                self.talk(self.camera({"GetProfiles": answer})).read()
            text = str(caught.exception)
            self.assertTrue(any(part in text for part in words.split("|")), text)
            self.assertTrue(text.isprintable() and len(text) < 400, text)

    def test_numbers_that_are_none_are_left_out(self):
        for old, new, gone in (
            ("<x:FrameRateLimit>25", "<x:FrameRateLimit>0", "video.frame_rate"), ("<x:FrameRateLimit>25", "<x:FrameRateLimit>NaN", "video.keyframe_interval.median"),
            ("<x:BitrateLimit>4096", "<x:BitrateLimit>-1", "video.bitrate.mean"), ("<x:Width>1920", "<x:Width>0", "video.size"),
            ("<x:GovLength>50", "<x:GovLength>99999999999999999999", "video.keyframe_interval.median"), ("<x:Encoding>H264", "<x:Encoding>", "video.codec"),
        ):  # fmt: skip
            answer = Foreign.usual(mock.Mock())["GetProfiles"].replace(old, new)
            state = self.talk(self.camera({"GetProfiles": answer})).read()
            self.assertNotIn(gone, state.channels["main"].values, new)

    def test_texts_in_other_codings(self):
        profiles = Foreign.usual(mock.Mock())["GetProfiles"].replace("Stream", "Str\u00e9am")
        whole = ENVELOPE.format(profiles)
        for data in (
            b"\xef\xbb\xbf\r\n" + whole.encode(), whole.replace("utf-8", "utf-16").encode("utf-16"), whole.replace("utf-8", "iso-8859-1").encode("latin-1"),
            whole.encode("latin-1"), b"\n\n" + whole.encode() + b"\x00\x00",
        ):  # fmt: skip
            state = self.talk(self.camera({"GetProfiles": (200, [], data)})).read()
            self.assertEqual(state.channels["main"].title, "Str\u00e9am <1>")

    def test_a_clock_that_nobody_may_read(self):
        camera = self.camera(open=(), clock=-500.0)
        with self.assertRaisesRegex(
            DeviceLoginRefused, "its clock cannot be read, and a token for the wrong time is refused too"
        ):
            self.talk(camera).read()
        self.assertEqual(camera.bad_logins, 1)
        self.assertEqual(self.talk(self.camera(open=())).read().model, "Reed 7")

    def test_the_main_channel_is_the_one_with_the_largest_picture(self):
        profiles = Foreign.usual(mock.Mock())["GetProfiles"]
        small = re.search("<b:Profiles.*</b:Profiles>", profiles)[0]
        for old, new in (("P_1", "P_2"), ("V_1", "V_2"), ("1920", "640"), ("1080", "360"), ("Stream &lt;1&gt;", "sub")):
            small = small.replace(old, new)
        empty = '<b:Profiles token="e"><x:Name>empty</x:Name></b:Profiles>'
        twice = re.search("<b:Profiles.*</b:Profiles>", profiles)[0].replace("P_1", "P_3")
        camera = self.camera(
            {
                "GetProfiles": profiles.replace("<b:Profiles", empty + small + "<b:Profiles", 1).replace(
                    "</b:GetProfilesResponse>", twice + "</b:GetProfilesResponse>"
                )
            }
        )
        channels = self.talk(camera).read().channels
        self.assertEqual(
            {name: (c.title, c.values["video.size"]) for name, c in channels.items()},
            {"main": ("Stream <1>", "1920x1080"), "second": ("sub", "640x360")},
        )

    def test_an_encoding_interval_divides_the_rate(self):
        answer = Foreign.usual(mock.Mock())["GetProfiles"].replace("<x:EncodingInterval>1", "<x:EncodingInterval>2")
        values = self.talk(self.camera({"GetProfiles": answer})).read().channels["main"].values
        self.assertEqual((values["video.frame_rate"], values["video.keyframe_interval.median"]), (12.5, 4))


class Writing(Cameras):
    ORDER = [
        "Name",
        "UseCount",
        "Encoding",
        "Resolution",
        "Quality",
        "RateControl",
        "H264",
        "Multicast",
        "SessionTimeout",
    ]  # ONVIF Media, 5.3

    def written(self, camera: Foreign) -> etree._Element:
        body = etree.fromstring(camera.set[-1])
        (config,) = body.iter("{http://www.onvif.org/ver10/media/wsdl}Configuration")
        return config

    def test_the_whole_configuration_goes_back_in_the_standards_order(self):
        camera = self.camera({"GetVideoEncoderConfigurationOptions": OPTIONS})
        talk = self.talk(camera)
        channel = talk.read().channels["main"]
        self.assertEqual(channel.limits["video.frame_rate"].text(), "1 to 30 fps, whole")
        talk.write(channel, {"video.size": "1280x720", "video.frame_rate": 30, "video.bitrate.mean": 2300})
        config = self.written(camera)
        self.assertEqual([etree.QName(child).localname for child in config], self.ORDER)
        self.assertEqual(
            {etree.QName(e).namespace for e in config.iter()} - {"http://www.onvif.org/ver10/media/wsdl"},
            {"http://www.onvif.org/ver10/schema"},
        )
        text = etree.tostring(config).decode()
        for part in (
            ">1280<", ">720<", "FrameRateLimit>30<", "BitrateLimit>2300<", "GovLength>60<", ">224.1.2.3<", ">PT00H12M00S<",
            'token="V_1"', "UseCount>2<",
        ):
            self.assertIn(part, text)
        self.assertIn(b"ForcePersistence>true<", camera.set[-1])

    def test_what_the_device_left_out_is_filled_in(self):
        bare = (
            '<b:GetProfilesResponse><b:Profiles token="P"><x:VideoEncoderConfiguration token="V"><x:Encoding>H264</x:Encoding>'
            "<x:Resolution><x:Height>720</x:Height><x:Width>1280</x:Width></x:Resolution><x:SessionTimeout>soon</x:SessionTimeout></x:VideoEncoderConfiguration></b:Profiles></b:GetProfilesResponse>"
        )
        camera = self.camera({"GetProfiles": bare, "GetVideoEncoderConfigurationOptions": OPTIONS})
        talk = self.talk(camera)
        talk.write(talk.read().channels["main"], {"video.frame_rate": 25, "video.bitrate.mean": 2000})
        config = self.written(camera)
        self.assertEqual([etree.QName(child).localname for child in config], self.ORDER)
        self.assertIn("SessionTimeout>PT60S<", etree.tostring(config).decode())

    def test_a_refusal_is_told_in_the_devices_words(self):
        camera = self.camera(
            {
                "SetVideoEncoderConfiguration": fault12(
                    "InvalidArgVal", "ConfigModify", reason="Bitrate too high for this resolution"
                )
            }
        )
        talk = self.talk(camera)
        with self.assertRaisesRegex(ChangeRefused, "Bitrate too high for this resolution"):
            talk.write(talk.read().channels["main"], {"video.bitrate.mean": 9000})

    def test_names_with_marks_of_xml(self):
        profile = Foreign.usual(mock.Mock())["GetProfiles"].replace("<x:Name>enc", '<x:Name><![CDATA[a<b>&"c]]>')
        camera = self.camera({"GetProfiles": profile})
        talk = self.talk(camera)
        talk.write(talk.read().channels["main"], {"video.bitrate.mean": 900})
        self.assertIn(b'a&lt;b&gt;&amp;"c', camera.set[-1])


class FirstPassword(Cameras):
    def test_a_new_device_in_three_dialects(self):
        empty = "<a:GetUsersResponse/>"
        said = fault12("NotAuthorized", reason="Device is not activated")
        for habits, answers, new in (
            ({"open": ("GetUsers", "CreateUsers", "GetSystemDateAndTime")}, {"GetUsers": empty}, True), ({"refusal": said}, {}, True),
            ({"refusal": fault11("Client", "The initial password has to be set")}, {}, True), ({}, {}, False), ({"auth": "digest"}, {}, False),
            ({"open": ("GetUsers",)}, {"GetUsers": "<a:R><a:User><x:Username>admin</x:Username></a:User></a:R>"}, False),
        ):  # fmt: skip
            camera = self.camera(answers, **habits)
            self.assertEqual(self.talk(camera, None).is_new(), new, habits)
            self.assertEqual(camera.bad_logins, 0)

    def test_the_first_user_is_made_once(self):
        taken = []
        camera = self.camera(
            {"GetUsers": "<a:R/>", "CreateUsers": lambda body: taken.append(body) or "<a:CreateUsersResponse/>"},
            open=("GetUsers", "CreateUsers"),
        )
        self.talk(camera, None).claim("admin", Secret("Kept&Safe9"))
        self.assertIn(b"Username>admin<", taken[0])
        self.assertIn(b"Password>Kept&amp;Safe9<", taken[0])
        self.assertIn(b"UserLevel>Administrator<", taken[0])
        clash = self.camera({"CreateUsers": fault12("OperationProhibited", "UsernameClash"), "SetUser": lambda body: taken.append(body) or "<a:SetUserResponse/>"},
                            open=("CreateUsers", "SetUser"))  # fmt: skip
        self.talk(clash, None).claim("admin", Secret("Kept9Safe9"))
        self.assertIn(b"SetUser", taken[1])
        with self.assertRaisesRegex(ChangeRefused, "it has one already"):
            self.talk(self.camera(), None).claim("admin", Secret("x"))


class Simulated(unittest.TestCase):
    """Our own cameras, in all ways to log in; against the standard's published schemas where those are at hand."""

    def setUp(self):
        shorter = mock.patch.object(unit, "RESTART_SECONDS", 0.2)
        shorter.start()
        self.addCleanup(shorter.stop)

    def start(self, made):
        made.start()
        self.addCleanup(made.stop)
        talk = Driver("cam", f"http://127.0.0.1:{made.port}", ("op", Secret("regatta-1")))
        self.addCleanup(talk.close)
        return talk

    def all_of_it(self, made):
        talk = self.start(made)
        state = talk.read()
        self.assertEqual(state.remarks, ())
        main = state.channels["main"]
        talk.write(main, {"video.codec": "h264", "video.size": "1280x720", "video.frame_rate": 25, "video.bitrate.mean": 2300, "video.keyframe_interval.median": 1.6,
                          "video.profile": "main"})  # fmt: skip
        if made.make.sound_offers:
            talk.write(
                main, {"audio.present": "yes", "audio.codec": "aac", "audio.sample_rate": 44100, "audio.bitrate.mean": 128},
            )
        now = talk.read().channels["main"].values
        self.assertEqual(
            (now["video.size"], now["video.keyframe_interval.median"], now["video.bitrate.mean"]), ("1280x720", 1.6, 2300),
        )
        if made.make.sound_offers:
            self.assertEqual((now["audio.codec"], now["audio.sample_rate"]), ("aac", 44100))
            talk.write(talk.read().channels["main"], {"audio.present": "no"})
        self.assertEqual(talk.read().channels["main"].values["audio.present"], "no")
        self.assertTrue(talk.snapshot("main").startswith(b"\xff\xd8"))
        if made.make.presets:
            first = talk.presets()[0]
            talk.go_to(first)
            talk.store("Jury", None)
            self.assertEqual(made.presets["p4"], "Jury")
        else:
            with self.assertRaises(NotOffered):
                talk.presets()
        made.clock_ahead = -9000.0
        self.assertAlmostEqual(talk.clock().offset, -9000, delta=2)
        talk.set_clock(datetime.datetime.now(datetime.UTC), ())
        self.assertLess(abs(made.clock_ahead), 2)
        talk.set_clock(None, ("192.0.2.1", "time.example"))
        self.assertEqual((talk.clock().by_ntp, made.ntp), (True, ("192.0.2.1", "time.example")))
        for dhcp in (True, False):  # as a wanted address, and as what is read back
            made.move = lambda: None
            manage.set_network(talk.client, replace(talk.network(), dhcp=dhcp, address="127.0.0.1", prefix=8))
            self.assertEqual((made.dhcp, talk.network().dhcp), (dhcp, dhcp))
        network = talk.network()
        self.assertEqual((network.address, network.prefix, network.gateways, network.dhcp), ("127.0.0.1", 8, ("127.0.0.254",), made.dhcp))
        with self.assertRaises(ChangeRefused):
            talk.write(main, {"video.bitrate.mean": 99999})
        self.assertEqual(made.login.wrong, 0)

    def test_each_in_each_way(self):
        for schemes in (("digest SHA-256", "digest MD5"), ("digest MD5",), ("basic",), ("token",)):
            self.all_of_it(Osier("op", "regatta-1", schemes=schemes))
            self.all_of_it(Fescue("op", "regatta-1", schemes=schemes))

    def test_a_device_that_is_away(self):
        talk = Driver("cam", "http://127.0.0.1:9", None)
        self.addCleanup(talk.close)
        self.assertFalse(talk.answers())
        with self.assertRaises(Unreachable):
            talk.read()

    @unittest.skipUnless(os.environ.get("DIREKT_STANDARDS"), "DIREKT_STANDARDS names no folder with the standard's schemas")
    def test_all_that_is_said_holds_against_the_schemas(self):
        schema = _schema(Path(os.environ["DIREKT_STANDARDS"]))
        seen = set()
        send = client.HttpInterface.exchange

        def watch(self, method, path, body=b"", *more, **named):
            answer = send(self, method, path, body, *more, **named)
            for data in (body, answer.content) if isinstance(body, bytes) and b"Envelope" in body else ():
                for element in etree.fromstring(data).iter("{http://www.w3.org/2003/05/soap-envelope}Body"):
                    inner = element[0]
                    if not inner.tag.endswith("Fault"):
                        alone = etree.fromstring(etree.tostring(inner))
                        assert schema.validate(alone), (inner.tag, schema.error_log)
                        seen.add(inner.tag)
            return answer

        with mock.patch.object(client.HttpInterface, "exchange", watch):
            self.test_each_in_each_way()
        self.assertGreater(len(seen), 60)


def _schema(folder: Path) -> etree.XMLSchema:
    """The standard's files as one schema: their own addresses become file names, and what libxml2 takes for ambiguous is narrowed."""
    import tempfile

    names = {path.name for path in folder.iterdir()}
    out = Path(tempfile.mkdtemp(prefix="direkt-schemas-"))

    def local(match: re.Match) -> str:
        last = match[1].rsplit("/", 1)[-1]
        last = {"onvif.xsd": "onvif-10.xsd", "": "soap-envelope"}.get(last, last)
        return f'schemaLocation="{last if last in names else match[1]}"'

    for path in folder.iterdir():
        if path.suffix != ".py" and path.is_file():
            text = re.sub(r'schemaLocation="([^"]*)"', local, path.read_text().replace(' modified="true"', ""))
            (out / path.name).write_text(re.sub(r'namespace="##(any|targetNamespace)"', 'namespace="##other"', text))
    parts = []
    for service in ("devicemgmt-10.wsdl", "media-10.wsdl", "media-20.wsdl", "ptz-20.wsdl"):
        for n, schema in enumerate(etree.parse(str(out / service)).iter("{http://www.w3.org/2001/XMLSchema}schema")):
            (out / f"{service}.{n}.xsd").write_bytes(etree.tostring(schema))
            parts.append(f'<xs:import namespace="{schema.get("targetNamespace")}" schemaLocation="{service}.{n}.xsd"/>')
    whole = f'<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema">{"".join(parts)}</xs:schema>'
    (out / "all.xsd").write_text(whole)
    return etree.XMLSchema(etree.parse(str(out / "all.xsd")))


if __name__ == "__main__":
    sys.exit(unittest.main())
