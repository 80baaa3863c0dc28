"""``make bench``: each line is a ratio measured in this very run, against a bound or a plain alternative."""

from __future__ import annotations

import sys

from bench.baseline import RELEASES, bench_bring_in, bench_draft
from bench.baseline import SERVERS as DRAFTED
from bench.drift import COMPONENTS, bench_drift
from bench.interface import PROMISED_KB, PROMISED_PAINT_S, bench_interface
from bench.lists import SERVERS as LISTED
from bench.lists import bench_lists
from bench.night import INSTANCES, bench_night
from bench.repository import GB, bench_repository
from bench.survey import BOUND_GB, SERVERS, SERVICE_MS, bench_survey
from bench.watching import BROWSERS, bench_watching
from bench.watching import SERVERS as WATCHED


def main() -> int:
    """Measure and print."""
    found = bench_survey()
    print(f"survey of {SERVERS} stand-ins at {SERVICE_MS} ms / the same GETs by a bare client: {found.ratio:.2f}")
    for generation, requests in found.requests.items():
        print(f"  requests a server, {generation}: {requests:.1f}")
    print(f"  memory of {SERVERS} stand-ins in one process / {BOUND_GB:g} GB: {found.standins_gb / BOUND_GB:.2f}")
    print(f"  memory of the survey / memory of the stand-ins: {found.own_gb / found.standins_gb:.2f}")
    one_pass, loop = bench_drift()
    print(f"drift of {COMPONENTS} components / one NumPy pass over the same columns: {one_pass:.1f}")
    print(f"drift of {COMPONENTS} components / a plain loop: {1 / loop:.4f} (the loop takes {loop:.0f} times as long)")
    draft = bench_draft()
    print(f"effect of a draft at {DRAFTED} servers ({draft.states} states) / the 200 ms that are promised, first time:")
    for name, share in draft.first.items():
        print(f"  {name}: {share:.2f}")
    print(f"  while it is edited on: {draft.again:.2f}; judging every server anew takes {draft.anew:.0f} times as long")
    night = bench_night()
    print(
        f"makespan / its bound on {INSTANCES} nights made by chance: median {night.median:.3f}, worst {night.worst:.3f}"
    )
    for servers, share in night.timetable.items():
        print(f"  timetable of {servers} servers / what is promised: {share:.2f}")
    print(f"  forecast of 1000 servers in 1000 samples / what is promised: {night.forecast:.2f}")
    print(f"  a changed limit tried on a sheet of 1000 / the 200 ms that an answer may take: {night.trial:.2f}")
    print(f"  10,000 servers in 300 states matched, judged and routed / what is promised: {night.routed:.2f}")
    print(f"  time out of service / each update with its own reset: {night.away:.2f}; outages: {night.outages:.2f}")
    bare, share = bench_bring_in()
    print(f"reading a catalog of {RELEASES} releases / the same as bare JSON: {bare:.1f}; / one second: {share:.2f}")
    repository = bench_repository()
    print(f"a repository of {GB:.1f} GB, as a part of the speed of cp, sync and sha256sum on the same bytes:")
    print(f"  built as a folder: {repository.build:.2f}, as an archive: {repository.archive:.2f}")
    print(f"  carried in from the archive (verified, then stored): {repository.carry:.2f}")
    print(f"  checked, as a part of the speed of sha256sum: {repository.check:.2f}")
    print(f"  memory grown over all of this / 100 MB: {repository.grew_mb / 100:.2f}")
    print(f"lists of {LISTED} servers with 34 components each, p95 / the tenth of a second that is promised:")
    for path, (queries, share) in bench_lists().items():
        print(f"  {path}: {share:.2f}, {queries} queries")
    seen = bench_interface()
    print(f"scripts of the first place, compressed / {PROMISED_KB} kB: {seen.bytes_first:.2f}")
    for servers, share in seen.paint.items():
        print(f"first useful paint with {servers} servers / {PROMISED_PAINT_S[servers]:g} s: {share:.2f}")
    print("longest task after that with ten thousand servers / 100 ms:")
    print("  " + ", ".join(f"{place} {share:.2f}" for place, share in seen.task.items()))
    print(f"find-or-do with ten thousand servers, longest answer to a key / 100 ms: {seen.find_key:.2f}")
    watched = bench_watching()
    print(f"{BROWSERS} browsers that watch a run of {WATCHED} servers, p95 of {watched.asked} answers / 100 ms:")
    print(f"  while they come in: {watched.coming:.2f}, then: {watched.answers:.2f}")
    print(f"  p95 of {watched.told} events, told / one second: {watched.seen:.2f}; lost: {watched.lost}")
    for what, share in seen.frames.items():
        print(f"run sheet of {what}, frame at p95 / a sixtieth of a second: {share:.2f}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
