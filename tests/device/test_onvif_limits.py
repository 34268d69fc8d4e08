"""What cameras of the first media service need not tell, what they say in odd forms, and faults in parts."""

import unittest

from lxml import etree

from direkt.demand import Demand
from direkt.device.onvif import settings
from direkt.device.onvif.settings import EncodingOption, FoundValues
from direkt.protocol import soap

CONFIG = """<C xmlns="http://www.onvif.org/ver10/schema" token="v1"><Name>v</Name><UseCount>1</UseCount><Encoding>H264</Encoding>
<Resolution><Width>1280</Width><Height>720</Height></Resolution><Quality>48.0</Quality>
<RateControl><FrameRateLimit>25.0</FrameRateLimit><EncodingInterval>1</EncodingInterval><BitrateLimit>3000.0</BitrateLimit></RateControl>
<H264><GovLength>50.0</GovLength><H264Profile>Main</H264Profile></H264></C>"""
OPTIONS = """<R xmlns="http://www.onvif.org/ver10/schema"><Options><QualityRange><Min>0</Min><Max>100</Max></QualityRange><H264>
<ResolutionsAvailable><Width>1280</Width><Height>720</Height></ResolutionsAvailable>{more}</H264></Options></R>"""


def values():
    found = FoundValues()
    settings.video_values(etree.fromstring(CONFIG), found, second=False)
    return found.values


class Untold(unittest.TestCase):
    def test_a_rate_of_nothing_gives_no_interval(self):
        for rate, told in ((25, True), (0, False)):
            limits, _ = settings.video_limits([EncodingOption("h264", pictures=(1, 100))], {"video.frame_rate": rate, "video.codec": "h264"})
            self.assertEqual("video.keyframe_interval.median" in limits, told)

    def limits(self, more=""):
        return settings.video_limits(settings.options(etree.fromstring(OPTIONS.format(more=more)), second=False), values())[0]

    def test_bitrate_rate_and_interval_may_be_set_where_no_range_is_told(self):
        found = self.limits()
        for name in ("video.bitrate.mean", "video.frame_rate", "video.keyframe_interval.median"):
            self.assertEqual((found[name], found[name].text(), found[name].allows(4321)), (Demand(name), "not reported", True))
        told = self.limits("<GovLengthRange><Min>1</Min><Max>200</Max></GovLengthRange><FrameRateRange><Min>1</Min><Max>30</Max></FrameRateRange>")
        self.assertTrue(told["video.frame_rate"].allows(30) and not told["video.frame_rate"].allows(31))
        self.assertEqual(told["video.keyframe_interval.median"].maximum, 8)
        self.assertTrue(told["video.bitrate.mean"].untold)

    def test_sound_of_which_only_the_codec_is_told(self):
        limits, _ = settings.audio_limits([settings.AudioOption("aac")])
        self.assertTrue(limits["audio.bitrate.mean"].untold and limits["audio.sample_rate"].untold)


class Written(unittest.TestCase):
    def test_a_devices_own_odd_numbers_go_back_as_the_schema_has_them(self):
        config = settings.video_config(etree.fromstring(CONFIG), {"video.size": "1280x720"}, values(), None, second=False)
        texts = {etree.QName(e).localname: e.text for e in config.iter() if e.text}
        self.assertEqual((texts["BitrateLimit"], texts["GovLength"], texts["FrameRateLimit"]), ("3000", "50", "25"))
        sound = '<C xmlns="http://www.onvif.org/ver10/schema" token="a"><Name>a</Name><UseCount>1</UseCount><Encoding>AAC</Encoding><Bitrate>48.0</Bitrate><SampleRate>16.0</SampleRate></C>'
        made = settings.audio_config(etree.fromstring(sound), {"audio.codec": "aac"}, second=False)
        texts = {etree.QName(e).localname: e.text for e in made.iter() if e.text}
        self.assertEqual((texts["Bitrate"], texts["SampleRate"]), ("48", "16"))

    def test_a_mode_that_the_device_lacks_is_not_written(self):
        config = """<C xmlns="http://www.onvif.org/ver10/schema" token="v1" GovLength="50"><Name>v</Name><UseCount>1</UseCount><Encoding>H264</Encoding>
<Resolution><Width>1280</Width><Height>720</Height></Resolution><RateControl ConstantBitRate="true"><FrameRateLimit>25</FrameRateLimit><BitrateLimit>3000</BitrateLimit></RateControl></C>"""
        whole = {"video.codec": "h264", "video.rate_control": "cbr", "video.bitrate.mean": 4000, "video.frame_rate": 25}
        made = settings.video_config(etree.fromstring(config), {"video.bitrate.mean": 4000}, whole, EncodingOption("h264", constant=False), second=True)
        control = next(e for e in made.iter() if etree.QName(e).localname == "RateControl")
        self.assertEqual(control.get("ConstantBitRate"), "false")


FAULT = (
    '<?xml version="1.0"?><s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope"><s:Body><s:Fault><s:Code><s:Value>s:Sender</s:Value>'
    "<s:Subcode><s:Value>ter:InvalidArgVal</s:Value></s:Subcode></s:Code><s:Reason><s:Text>too fast</s:Text></s:Reason></s:Fault></s:Body></s:Envelope>"
)


class Parts(unittest.TestCase):
    def test_a_fault_in_the_first_part_of_a_message_in_parts(self):
        for end in ("\r\n", "\n"):
            head = f'Content-Type: application/xop+xml; charset=UTF-8; type="application/soap+xml"{end}Content-ID: <root>{end}{end}'
            whole = f"--uuid:1+id=2{end}{head}{FAULT}{end}--uuid:1+id=2{end}Content-Type: image/jpeg{end}{end}\xff\xd8{end}--uuid:1+id=2--{end}"
            for data in (whole, end + whole):
                fault = soap.read(data.encode("latin-1")).fault
                self.assertEqual((fault.subcodes, fault.reason), (("InvalidArgVal",), "too fast"))
        self.assertEqual(soap.read(FAULT.encode()).fault.reason, "too fast")
