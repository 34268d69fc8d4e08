"""Envelopes, faults of both versions, tokens, and discovery: against texts of the standards and by hand."""

import datetime
import unittest

from lxml import etree

from direkt.errors import Malformed
from direkt.protocol import discovery, soap, tree

FAULT12 = b"""<?xml version='1.0' ?><env:Envelope xmlns:env="http://www.w3.org/2003/05/soap-envelope" xmlns:m="http://www.example.org/timeouts">
<env:Body><env:Fault><env:Code><env:Value>env:Sender</env:Value><env:Subcode><env:Value>m:MessageTimeout</env:Value></env:Subcode></env:Code>
<env:Reason><env:Text xml:lang="en">Sender Timeout</env:Text></env:Reason></env:Fault></env:Body></env:Envelope>"""  # SOAP 1.2 Part 1, 5.4
FAULT11 = b"""<SOAP-ENV:Envelope xmlns:SOAP-ENV="http://schemas.xmlsoap.org/soap/envelope/"><SOAP-ENV:Body><SOAP-ENV:Fault>
<faultcode>SOAP-ENV:Server.Busy</faultcode><faultstring>Server Error</faultstring></SOAP-ENV:Fault></SOAP-ENV:Body></SOAP-ENV:Envelope>"""
# WS-Discovery, April 2005, 1.4
MATCH = b"""<s:Envelope xmlns:a="http://schemas.xmlsoap.org/ws/2004/08/addressing" xmlns:d="http://schemas.xmlsoap.org/ws/2005/04/discovery"
 xmlns:i="http://www.onvif.org/ver10/network/wsdl" xmlns:s="http://www.w3.org/2003/05/soap-envelope"><s:Header>
<a:Action>http://schemas.xmlsoap.org/ws/2005/04/discovery/ProbeMatches</a:Action><a:MessageID>uuid:e32e6863-ea5e-4ee4-997e-69539d1ff2cc</a:MessageID>
<a:RelatesTo>uuid:0a6dc791-2be6-4991-9af1-454778a1917a</a:RelatesTo><a:To>http://schemas.xmlsoap.org/ws/2004/08/addressing/role/anonymous</a:To>
<d:AppSequence InstanceId="1077004800" MessageNumber="2"/></s:Header><s:Body><d:ProbeMatches><d:ProbeMatch>
<a:EndpointReference><a:Address>uuid:98190dc2-0890-4ef8-ac9a-5940995e6119</a:Address></a:EndpointReference><d:Types>i:NetworkVideoTransmitter</d:Types>
<d:Scopes>onvif://www.onvif.org/name/Lake%20View onvif://www.onvif.org/hardware/Reed%207 onvif://www.onvif.org/Profile/Streaming</d:Scopes>
<d:XAddrs>http://192.0.2.9/onvif/device_service  http://[fe80::1]/onvif/device_service file:///etc http://:0/</d:XAddrs><d:MetadataVersion>75965</d:MetadataVersion>
</d:ProbeMatch></d:ProbeMatches></s:Body></s:Envelope>"""


class Envelopes(unittest.TestCase):
    def test_faults_of_both_versions(self):
        new, old = soap.read(FAULT12).fault, soap.read(FAULT11).fault
        self.assertEqual((new.code, new.subcodes, new.text), ("Sender", ("MessageTimeout",), "Sender Timeout (MessageTimeout)"))
        self.assertEqual((old.code, old.subcodes, old.text), ("Receiver", ("Busy",), "Server Error (Busy)"))

    def test_what_is_no_envelope(self):
        for data in (b"", b"<a/>", b"<Envelope/>", b"\x00\x01", b"<a" * 100000, b'<!DOCTYPE x><x/>', b'<!DOCTYPE a [<!ENTITY b SYSTEM "file:///etc/passwd">]><a>&b;</a>',
                     b"<?xml version='1.0' encoding='nonsense'?><a/>", b"<a>" * 5000 + b"</a>" * 5000, b" " * (5 << 20)):  # fmt: skip
            with self.assertRaises(Malformed):
                soap.read(data)
        bomb = (
            b'<!DOCTYPE l [<!ENTITY a "lol">'
            + b"".join(b'<!ENTITY %c "&%c;&%c;&%c;&%c;">' % (98 + n, 97 + n, 97 + n, 97 + n, 97 + n) for n in range(20))
            + b"]><l>&u;</l>"
        )
        with self.assertRaises(Malformed):
            soap.read(bomb)

    def test_a_token_is_what_the_profile_says(self):
        # worked out by another program: Base64(SHA-1(nonce + created + password))
        self.assertEqual(
            soap.password_digest(b"0123456789abcdef", "2026-11-28T06:00:00.000Z", "pond"), "5TEagz4kBZYOyUR4Vy/Ed8pLZrQ=",
        )
        moment = datetime.datetime(2026, 11, 28, 6, 0, tzinfo=datetime.UTC)
        data = soap.write(etree.Element("x"), [soap.username_token("op", "pond", moment, b"0123456789abcdef")])
        token = soap.read_token(soap.read(data).header)
        self.assertEqual(
            (token.user, token.created, token.is_right("pond"), token.is_right("sea")),
            ("op", "2026-11-28T06:00:00.000Z", True, False),
        )
        self.assertNotIn(b"pond", data)
        self.assertIsNone(soap.read_token(soap.read(soap.write(etree.Element("x"))).header))

    def test_values_as_xml_schema_writes_them(self):
        self.assertEqual(
            [tree.yes(t) for t in ("true", "1", "TRUE", " false ", "0", "maybe", "")],
            [True, True, True, False, False, None, None],
        )
        self.assertEqual(
            [tree.whole(t) for t in ("7", " 7.0 ", "7.5", "NaN", "INF", "1_0", "")], [7, 7, None, None, None, None, None],
        )
        element = etree.fromstring('<a xmlns:n="urn:n" n:token="x"> <n:b> c\n d</n:b><b/></a>')
        self.assertEqual(
            (tree.text(element, "b"), tree.attribute(element, "token"), tree.text(element, "none", "b")), ("c d", "x", ""),
        )


class Discovery(unittest.TestCase):
    def test_the_standards_own_answer(self):
        (found,) = discovery.read(MATCH)
        self.assertEqual((found.scope("name"), found.scope("hardware"), found.scope("location")), ("Lake View", "Reed 7", ""))
        self.assertEqual(found.addresses, ("http://192.0.2.9/onvif/device_service", "http://[fe80::1]/onvif/device_service"))
        self.assertEqual((found.relates_to, found.is_camera), ("uuid:0a6dc791-2be6-4991-9af1-454778a1917a", True))

    def test_a_probe_as_the_standard_has_it(self):
        root = etree.fromstring(discovery.probe("urn:uuid:1", [(discovery.NETWORK, "NetworkVideoTransmitter")]))
        names = {"s": soap.SOAP12, "a": discovery.WSA, "d": discovery.WSD}
        self.assertEqual(
            root.findtext("s:Header/a:Action", namespaces=names), "http://schemas.xmlsoap.org/ws/2005/04/discovery/Probe",
        )
        self.assertEqual(root.findtext("s:Header/a:To", namespaces=names), "urn:schemas-xmlsoap-org:ws:2005:04:discovery")
        types = root.find("s:Body/d:Probe/d:Types", names)
        prefix, _, local = types.text.partition(":")
        self.assertEqual((types.nsmap[prefix], local), ("http://www.onvif.org/ver10/network/wsdl", "NetworkVideoTransmitter"))

    def test_several_answers_of_one_device(self):
        other = MATCH.replace(b"192.0.2.9", b"198.51.100.9").replace(b"uuid:98190DC2", b"uuid:98190dc2")
        (one,) = discovery.together([*discovery.read(MATCH), *discovery.read(other), *discovery.read(MATCH)])
        self.assertEqual(len(one.addresses), 3)
        two = discovery.together([*discovery.read(MATCH), *discovery.read(MATCH.replace(b"5940995e6119", b"5940995e6118"))])
        self.assertEqual(len(two), 2)

    def test_what_is_no_answer(self):
        for data in (b"", FAULT12, discovery.probe("urn:uuid:1"), b"x" * 70000, MATCH[:-20]):
            with self.assertRaises(Malformed):
                discovery.read(data)


if __name__ == "__main__":
    unittest.main()
