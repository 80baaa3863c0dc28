"""How a payload gets to a controller: HTTPS before a push, a push before plain HTTP, its own image last."""

from __future__ import annotations

import itertools

import pytest

from ordnung.controllers.types import Reach

PULL, PUSH, RAW = "/pull", "/push", "/raw"


@pytest.mark.parametrize(
    ("pulls", "push", "raw", "served", "way"),
    [
        (("HTTPS", "HTTP"), PUSH, None, ("HTTPS", "HTTP"), "pull over HTTPS"),
        (("HTTP",), PUSH, None, ("HTTPS", "HTTP"), "push"),
        (("HTTP",), None, None, ("HTTPS", "HTTP"), "pull over HTTP"),
        (("HTTP",), None, RAW, ("HTTPS", "HTTP"), "pull over HTTP"),
        (("HTTPS",), PUSH, None, (), "push"),
        (("HTTPS",), None, RAW, (), "push"),
        (("HTTPS",), None, None, ("HTTP",), None),
        ((), None, None, ("HTTPS", "HTTP"), None),
    ],
)
def test_the_order_of_ways(pulls, push, raw, served, way):
    assert Reach(push_uri=push, pull_target=PULL, pulls=pulls, raw_push_uri=raw).way(served) == way


def test_never_a_protocol_that_is_not_offered_or_not_served():
    protocols = [(), ("HTTP",), ("HTTPS",), ("HTTPS", "HTTP")]
    for pulls, served, push, target in itertools.product(protocols, protocols, (PUSH, None), (PULL, None)):
        way = Reach(push_uri=push, pull_target=target, pulls=pulls).way(served)
        if way and way.startswith("pull"):
            assert target and way.split()[-1] in pulls and way.split()[-1] in served
        assert way is not None or not push
