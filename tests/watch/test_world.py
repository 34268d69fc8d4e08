"""The real world of a watch, with drivers that say what devices say: their messages may hold a key, and answers may be odd."""

import dataclasses
import threading
from pathlib import Path

from direkt.described.errors import Unreachable
from direkt.destination.allowed import Trust
from direkt.destination.references import Sources
from direkt.device.state import Bare, Capability, Health, PushState, Slot
from direkt.platform.library import Means
from direkt.rig import file as rigs
from direkt.watch.tracker import FeedState, Tracker
from direkt.watch.world import RealWorld, facts_of
from direkt.work.live.go_types import Crew, LastRehearsal
from tests.support import Folder
from tests.watch.fakes import Clock

KEY = "varn~fake~kingfisher"
RIG = """\
schema: direkt.rig/1
name: Regatta
devices: {tower: {driver: brindle-b2, address: "http://192.0.2.1"}, roof: {driver: kelpie-h1}}
destinations: {main: {sheet: tarnlight, server: "rtmp://192.0.2.2/live", key: "env:DIREKT_KEY"}}
feeds: {finish: {device: tower, destination: main}, roof: {device: roof, destination: main}}
"""


class Driver(Bare):
    capabilities = frozenset(Capability)

    def __init__(self, *slots, wrong=(), error=None):
        self.name, self.address, self.slots, self.wrong, self.error = "tower", "http://192.0.2.1", slots, wrong, error

    def health(self):
        if self.error is not None:
            raise self.error
        return Health(pushes=self.slots, wrong=self.wrong, uptime=5.0)


class Looks(Folder):
    def world(self, driver):
        rig = rigs.load(self.file("rig.yaml", RIG))
        means = Means(Sources({"DIREKT_KEY": KEY}, trust=Trust().seeing(["DIREKT_KEY"])), None, "regatta", lambda: 1.8e9, lambda s: None)
        crew = Crew(means, Clock(), lambda feed: None, lambda feed: "", lambda feed: LastRehearsal(), lambda name: False)
        made = RealWorld(rig, ["finish"], crew)
        made._drivers["tower"] = driver
        self.rig = rig
        return made

    def look(self, **more):
        slot = Slot(1, "main", "rtmp://192.0.2.2/live", len(KEY), PushState.PUSHING)
        return self.world(Driver(dataclasses.replace(slot, **more), wrong=more.pop("wrong", ()))).device("tower")

    def test_what_devices_say_holds_no_key(self):
        for message in (f"rtmp://192.0.2.2/live/{KEY} refused", f"stream {KEY.replace('~', '%7E')} not found", f"publish({KEY}): denied"):
            look = self.look(state=PushState.RETRYING, message=message)
            self.assertNotIn("kingfisher", repr(look))
            self.assertIn("…", look.slots[1].message)
        look = self.world(Driver(error=Unreachable(f"tower at http://h/{KEY} does not answer"))).device("tower")
        self.assertNotIn("kingfisher", repr(look))

    def test_a_device_that_shows_address_and_key_as_one_pushes_to_the_same_server(self):
        for server in (f"rtmp://192.0.2.2/live/{KEY}", "rtmp://192.0.2.2/live/", "rtmp://192.0.2.2/live"):
            world = self.world(Driver(Slot(1, "main", server, len(KEY), PushState.PUSHING)))
            tracker = Tracker(facts_of(self.rig, "finish"), 0.0)
            tracker.take_device(world.device("tower"))
            tracker.judge(1.0, None)
            self.assertEqual(tracker.state, FeedState.ON, server)
            self.assertNotIn("kingfisher", tracker.text)

    def test_one_device_is_asked_by_one_at_a_time_and_close_waits_for_nobody_for_long(self):
        class Slow(Driver):
            busy = most = 0

            def health(self):
                Slow.busy += 1
                Slow.most = max(Slow.most, Slow.busy)
                threading.Event().wait(0.05)
                Slow.busy -= 1
                return super().health()

        world = self.world(Slow())
        threads = [threading.Thread(target=world.device, args=("tower",)) for _ in range(6)]
        for one in threads:
            one.start()
        for one in threads:
            one.join()
        self.assertEqual(Slow.most, 1)
        world.close()

    def test_facts(self):
        self.world(Driver())
        self.assertEqual((facts_of(self.rig, "finish").by_hand, facts_of(self.rig, "roof").by_hand), (False, True))
        self.assertEqual(Path(self.rig.folder), self.folder.resolve())
