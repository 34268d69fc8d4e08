"""Digest and basic against the standards' own examples, and against another client's answers."""

import random
import unittest

import httpx

from direkt.protocol.httpauth import Challenge, basic, choose, digest, is_right, login_of, parse_challenges

# RFC 7616, 3.9.1
OFFERED = {"realm": "http-auth@example.org", "qop": "auth, auth-int", "nonce": "7ypf/xlj9XXwfDPEoM4URrv/xwf94BcCAzFZH4GiTo0v",
           "opaque": "FQhe/qaU925kfnzjCev0ciny7QMkPqMAFRtzCUYo5tdS"}  # fmt: skip
CNONCE = "f2/wE4q74E6zIJEtWaHKaf5wv/H5QzzpXusqGemxURZJ"


class Examples(unittest.TestCase):
    def answer(self, algorithm, **more):
        offered = Challenge("digest", {**OFFERED, "algorithm": algorithm, **more})
        return digest(offered, "Mufasa", "Circle of Life", "GET", "/dir/index.html", count=1, client_nonce=CNONCE)

    def test_of_the_standard(self):
        self.assertIn('response="8ca523f5e9506fed4657c9700eebdbec"', self.answer("MD5"))
        self.assertIn('response="753927fa0e85d155564e2e272a28d1802ca10daf4496794697cf8db5856cb6c1"', self.answer("SHA-256"))
        # RFC 2617, 3.5: the same in the older form of RFC 2069 lies in its reference code; here without qop
        old = Challenge("digest", {"realm": "testrealm@host.com", "nonce": "dcd98b7102dd2f0e8b11d0f600bfb0c093"})
        self.assertIn(
            "670fd8c2df070c60b045671b8b24ff02",
            digest(old, "Mufasa", "Circle Of Life", "GET", "/dir/index.html", count=1, client_nonce="x"),
        )
        self.assertEqual(basic("Aladdin", "open sesame"), "Basic QWxhZGRpbjpvcGVuIHNlc2FtZQ==")  # RFC 7617, 2

    def test_user_hash(self):
        # RFC 7616, 3.9.2
        offered = Challenge("digest", {"realm": "api@example.org", "qop": "auth", "algorithm": "SHA-512-256", "charset": "UTF-8", "userhash": "true",
                                       "nonce": "5TsQWLVdgBdmrQ0XsxbDODV+57QdFR34I9HAbC/RVvkK", "opaque": "HRPCssKJSGjCrkzDg8OhwpzCiGPChXYjwrI2QmXDnsOS"})  # fmt: skip
        made = digest(
            offered, "J\u00e4s\u00f8n Doe", "Secret, or not?", "GET", "/doe.json", count=1,
            client_nonce="NTg6RKcb9boFIAS3KrFK9BGeh+niz/sm",
        )
        self.assertIn("793263caabb707a56211940d90411ea4a575adeccb7e360aeb624ed06ece9b0b", made)
        self.assertIn("userhash=true", made)
        self.assertNotIn("Doe", made.replace("doe.json", ""))

    def test_another_client_is_understood(self):
        for algorithm in ("MD5", "SHA-256", "MD5-SESS", "SHA-256-SESS"):
            for qop in ("auth", "", "auth-int, auth"):
                if not qop and algorithm.endswith("SESS"):
                    continue  # that client leaves out the nonce of its own, without which nobody can check it
                offered = {"realm": 'a "b"', "nonce": "n1", "algorithm": algorithm, **({"qop": qop} if qop else {})}
                text = ", ".join(
                    f'{k}="{v}"' if k != "algorithm" else f"{k}={v}" for k, v in {**offered, "realm": "pond"}.items()
                )
                offered["realm"] = "pond"
                flow = httpx.DigestAuth("op", "pw").auth_flow(httpx.Request("POST", "http://h.example/a?b=c", content=b"x"))
                request = next(flow)
                request = flow.send(httpx.Response(401, headers={"www-authenticate": f"Digest {text}"}, request=request))
                given = login_of(request.headers["authorization"])
                ours = Challenge("digest", offered)
                self.assertTrue(is_right(ours, given, "op", "pw", "POST", b"x"), (algorithm, qop))
                self.assertFalse(is_right(ours, given, "op", "pw2", "POST"))
                self.assertFalse(is_right(ours, given, "op2", "pw", "POST"))
                self.assertFalse(is_right(ours, given, "op", "pw", "GET"))

    def test_the_body_counts_where_it_is_protected(self):
        offered = Challenge("digest", {"realm": "r", "nonce": "n", "qop": "auth-int", "algorithm": "SHA-256"})
        made = login_of(digest(offered, "u", "p", "PUT", "/x", count=3, client_nonce="c", body=b"settings"))
        self.assertTrue(is_right(offered, made, "u", "p", "PUT", b"settings"))
        self.assertFalse(is_right(offered, made, "u", "p", "PUT", b"other"))


class Challenges(unittest.TestCase):
    def test_many_in_one_header(self):
        found = parse_challenges(
            [
                'Digest realm="x, y", qop="auth", nonce="a\\"b", algorithm=SHA-256, stale=TRUE, Basic realm=plain, Negotiate',
                "Bearer",
            ]
        )
        self.assertEqual([c.scheme for c in found], ["digest", "basic", "negotiate", "bearer"])
        self.assertEqual((found[0].parameters["realm"], found[0].parameters["nonce"], found[0].stale), ("x, y", 'a"b', True))

    def test_the_strongest_that_can_be_answered(self):
        offers = parse_challenges(
            [
                'Basic realm="a"', 'Digest realm="a", nonce="n"', 'Digest realm="a", nonce="n", algorithm=SHA-256',
                'Digest realm="a", nonce="n", algorithm=X9',
            ]
        )
        self.assertEqual(choose(offers).text, "digest SHA-256")
        self.assertEqual(choose(offers, ["basic"]).text, "basic")
        self.assertIsNone(choose(offers[:1], ["digest"]))
        self.assertIsNone(choose(parse_challenges(['Digest realm="a"', 'Digest realm="a", nonce="n", qop="token"'])))

    def test_nonsense_is_passed_over(self):
        chance = random.Random(3)
        letters = 'DigestBasic realm="nonce,=\\ \t;'
        for _ in range(3000):
            text = "".join(chance.choice(letters) for _ in range(chance.randint(0, 60)))
            choose(parse_challenges([text]))
            login_of(text)
        self.assertIsNone(login_of("Basic ???"))
        self.assertIsNone(login_of("Basic YWJj"))


if __name__ == "__main__":
    unittest.main()
