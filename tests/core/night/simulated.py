"""A night carried out by the policy, event by event: what the forecast is held against (A38). Written apart from it."""

from __future__ import annotations

import heapq

import numpy as np

SIGMA = {"staging": 0.2, "writing": 0.2, "moving off": 0.25, "taking back": 0.25, "checking": 0.0}


def carry_out(timetable, limits, dice):
    """When the last step ended, and when each server's did."""
    servers = [_Server(seat, dice) for seat in timetable.seats]
    night = _Night(servers, limits)
    return night.run()


class _Server:
    def __init__(self, seat, dice):
        self.seat, self.itinerary = seat, seat.placed.itinerary
        own = dice.standard_normal()
        self.seconds = [self._seconds(step, own, dice) for step in self.itinerary.steps]
        self.next, self.ready, self.working, self.away_since = 0, True, False, None
        self.stretch = {s.first: s for s in self.itinerary.stretches}
        self.opens = dict(self.itinerary.aways)

    @staticmethod
    def _seconds(step, own, dice):
        if step.kind in SIGMA:
            return step.seconds * np.exp(SIGMA[step.kind] * dice.standard_normal())
        return step.seconds * np.exp(0.3 * np.sqrt(0.5) * (own + dice.standard_normal()))

    def planned_away(self, a):
        return sum(s.seconds for s in self.itinerary.steps[a : self.opens[a] + 1])


class _Night:
    def __init__(self, servers, limits):
        self.servers, self.limits = servers, limits
        self.link = self.working = 0
        self.holders = {}
        self.events, self.count = [], 0

    def keys(self, server):
        place = server.itinerary.place
        asked = [("group", g, self.limits.group(g).may_be_away) for g in place.groups]
        asked.append(("rack", place.rack, self.limits.racks.get(place.rack)))
        return [(k, n, allowed) for k, n, allowed in asked if allowed is not None]

    def run(self):
        now, ends = 0.0, {}
        self.start_all(now)
        while self.events:
            now, _, what, server = heapq.heappop(self.events)
            if what == "healed":
                key = server
                self.holders[key[:2]].remove(key[2])
            else:
                self.finish(server, now, ends)
            self.start_all(now)
        return max(ends.values()), ends

    def push(self, at, what, who):
        self.count += 1
        heapq.heappush(self.events, (at, self.count, what, who))

    def finish(self, server, now, ends):
        n, steps = server.next, server.itinerary.steps
        if steps[n].kind == "staging":
            self.link -= 1
        if any(b == n for b in server.opens.values()):
            for kind, name, _ in self.keys(server):
                heal = self.limits.group(name).heal_seconds if kind == "group" else 0.0
                holder = next(h for h in self.holders[kind, name] if h[0] is server)
                self.holders[kind, name].remove(holder)
                healing = (None, now, heal)
                self.holders[kind, name].append(healing)
                self.push(now + heal, "healed", (kind, name, healing))
            server.away_since = None
        starts = server.seat.placed.starts
        rests = n + 1 < len(steps) and starts[n + 1] > starts[n] + steps[n].seconds and server.away_since is None
        if server.working and (n < server.itinerary.ahead or n + 1 == len(steps) or rests):
            server.working, self.working = False, self.working - 1
        server.next, server.ready = n + 1, True
        if server.next == len(steps):
            ends[server.itinerary.server] = now
            server.ready = False

    def start_all(self, now):
        wanted = set()
        ready = [server for server in self.servers if server.ready]
        for server in sorted(ready, key=lambda s: s.seat.placed.starts[s.next]):
            if server.ready:
                self.try_start(server, now, wanted)

    def try_start(self, server, now, wanted):
        n, steps = server.next, server.itinerary.steps
        lacks = []
        if steps[n].kind == "staging" and (self.link >= self.limits.transfers or "link" in wanted):
            lacks.append("link")
        if not server.working and (self.working >= self.limits.at_once or "at once" in wanted):
            lacks.append("at once")
        stretch = server.stretch.get(n)
        for kind, name, allowed in self.keys(server):
            held = self.holders.setdefault((kind, name), [])
            if n in server.opens and (len(held) >= allowed or (kind, name) in wanted):
                lacks.append((kind, name))
            elif stretch is not None and stretch.opens is not None:
                later = [h for h in held if max(h[1] + h[2], now) > now + stretch.opens]
                if len(later) >= allowed or (kind, name) in wanted:
                    lacks.append((kind, name))
        if lacks:
            wanted.update(lacks)
            return
        server.ready = False
        if steps[n].kind == "staging":
            self.link += 1
        if not server.working:
            server.working, self.working = True, self.working + 1
        if n in server.opens:
            server.away_since = now
            for kind, name, _ in self.keys(server):
                heal = self.limits.group(name).heal_seconds if kind == "group" else 0.0
                self.holders[kind, name].append((server, now, server.planned_away(n) + heal))
        self.push(now + server.seconds[n], "done", server)
