"""Run every measurement, or those named, write docs/benchmarks.json and the table in docs/benchmarks.md."""

import json
import os
import pathlib
import platform
import sys
from typing import Any

from . import cast, checking, growth, latency, leaving, live, looking, maps, memory, reading, scale

DOCS = pathlib.Path(__file__).parent.parent / "docs"
Row = tuple[str, str, str, str]  # what, measured, aim, how


def main(only: list[str]) -> None:
    known = json.loads((DOCS / "benchmarks.json").read_text()) if only else {}
    found: dict[str, Any] = known | {
        "machine": f"{platform.machine()}, {os.cpu_count()} cores, Python {platform.python_version()}"
    }
    for name, measure in (
        ("first_use", scale.measure_first_use),
        ("starts", scale.measure_starts),
        ("cast", cast.measure),
        ("adaptive", cast.measure_adaptive),
        ("maps", maps.measure),
        ("denoise", maps.measure_denoise),
        ("light", maps.measure_light),
        ("reading", reading.measure),
        ("scale", scale.measure_scale),
        ("large_maps", scale.measure_large_maps),
        ("checks", checking.measure),
        ("checks_large", checking.measure_large),
        ("taking_in", checking.measure_taking_in),
        ("latency", latency.measure),
        ("looking", looking.measure),
        ("looking_large", looking.measure_large),
        ("live", live.measure),
        ("leaving", leaving.measure),
        ("memory", memory.measure),
        ("growth", growth.measure),
    ):
        if only and name not in only:
            continue
        print(f"{name} …", flush=True)
        found[name] = measure()
        print(json.dumps(found[name], indent=2), flush=True)
        (DOCS / "benchmarks.json").write_text(json.dumps(found, indent=2) + "\n")
    (DOCS / "benchmarks.md").write_text(table(found))
    (DOCS / "growth.svg").write_text(growth.drawn(found["growth"]))


def table(f: dict[str, Any]) -> str:
    """The figures as a page; targets are those the product sets itself."""
    rows = [*casting_rows(f), *reading_rows(f), *waiting_rows(f)]
    lines = [
        "# Benchmarks",
        "",
        f"Written by `make bench` on {f['machine']}. Ratios are of one run, both sides taken in turn.",
        "",
        "| what | measured | aim | how |",
        "| --- | --- | --- | --- |",
        *(f"| {' | '.join(row)} |" for row in rows),
        "",
        "The bare loop traces the bake's own rays from an array, in sheet order, through the same scene (robust mode, back",
        "faces filtered out). Reading is the best of several runs with the file in the system's cache; the same reader also",
        "checks every index and refuses NaN and infinite values within that time. Denoised occlusion gains with the sheet,",
        "as texels come closer: at the demo pieces' own 2048² its error is 1.01 (gull) and 0.67 (inkstand) of that of 128",
        "plain rays; that takes half an hour to measure and is not part of every run.",
        "",
        *growth_lines(f["growth"]),
    ]
    return "\n".join(lines)


def growth_lines(g: dict[str, Any]) -> list[str]:
    """The curves, and what each is of."""
    return [
        "## Growth",
        "",
        "![Time and memory against triangles, texels, samples, rays, parts and threads](growth.svg)",
        "",
        "Seconds are drawn full, the peak of the process dashed, both axes logarithmic. Behind each name stands the",
        "exponent over the last stretch: 1 where twice as much takes twice as long.",
        "",
        *(
            f"- **{case}**: {growth.OF[case]}; time {g[case]['seconds']:+.2f}, memory {g[case]['peak']:+.2f}."
            for case in g
        ),
        "",
    ]


def casting_rows(f: dict[str, Any]) -> list[Row]:
    """What a bake costs, and looking at it."""
    c, m = f["cast"], f["maps"]
    return [
        (
            "Cast efficiency",
            f"{c['casting_over_bare']:.2f}",
            "≤ 0.75",
            f"casting {c['casting_seconds']:.2f} s over a bare loop {c['bare_seconds']:.2f} s, {c['rays'] / 1e6:.1f} M rays",
        ),
        (
            "Whole warm bake over the bare loop",
            f"{c['bake_over_bare']:.2f}",
            "≤ 1",
            f"{c['bake_seconds']:.2f} s with basis, padding and quantising; 2048², 4 samples, {c['triangles'] / 1e6:.1f} M triangles",
        ),
        (
            "Adaptive sampling, worst demo piece",
            f"{f['adaptive']['error_over_plain_16']:.2f}",
            "≤ 1",
            f"error of adaptive 64 against plain 64 over that of plain 16, with {f['adaptive']['rays_over_plain_64']:.0%} of the rays of plain 64; 512²",
        ),
        *map_rows(f),
        ("Change of basis at 2048²", f"{m['basis_seconds']:.2f} s", "≤ 0.5 s", "without a ray"),
    ]


def map_rows(f: dict[str, Any]) -> list[Row]:
    """What maps of many rays cost, and a proof and its looks."""
    m = f["maps"]
    return [
        (
            "Occlusion efficiency",
            f"{m['occlusion_over_bare']:.2f}",
            "≤ 0.9",
            f"64 rays a texel at 1024²: {m['occlusion_seconds']:.2f} s over a bare loop {m['bare_seconds']:.2f} s, {m['rays'] / 1e6:.1f} M rays",
        ),
        (
            "Denoised occlusion of 16 rays, worst demo piece",
            f"{f['denoise']['denoised_over_rough']:.2f}",
            "",
            f"its error over that without; over that of 128 plain rays {f['denoise']['denoised_over_128']:.1f} (aim 1); 512²; 1,024 rays denoised have {f['denoise']['washed_out_over_128']:.1f} times that error",
        ),
        (
            "Glow, light, rounded normal over occlusion",
            " · ".join(f"{f['light'][f'{key}_over_occlusion']:.2f}" for key in ("glow", "light", "rounded")),
            "≤ 2",
            f"the lantern, 512², 64 rays a texel, nothing stops early; each path is two rays or more, with a shadow ray for the sun, and finds what it meets; a bounce more: {f['light']['bounce_over_occlusion']:.2f}",
        ),
        (
            "Memory at 8192², 64 samples, all maps",
            f"{f['memory']['gigabytes']:.2f} GB",
            "< 4 GB",
            f"above the meshes, besides pages of files on disk ({f['memory']['disk_gigabytes']:.1f} GB); {f['memory']['maps']} maps, 4 rays each, {f['memory']['seconds']:.0f} s",
        ),
        (
            "Proof, 512², normal and occlusion at 16 rays",
            f"{m['proof_seconds']:.2f} s",
            "≤ 1.5 s",
            "warm, cast anew, a million triangles",
        ),
        *looking_rows(f["looking"], f["looking_large"]),
        *live_rows(f["live"]),
    ]


def reading_rows(f: dict[str, Any]) -> list[Row]:
    """Files, large sculpts and checks."""
    s, u, k, rows = f["scale"], f["first_use"], f["checks_large"], list[Row]()
    for suffix, target in (("ply", "≤ 2"), ("glb", "≤ 2")):
        r = f["reading"][suffix]
        rows.append(
            (
                f"Reading {suffix.upper()}",
                f"{r['read_over_bytes']:.2f}",
                target,
                f"{1000 * r['read_seconds']:.0f} ms over {1000 * r['bytes_seconds']:.0f} ms for the bytes, {r['megabytes']:.0f} MB",
            )
        )
    r = f["reading"]["obj"]
    rows += [
        ("Reading OBJ, a million triangles", f"{r['read_seconds']:.2f} s", "< 4 s", f"{r['megabytes']:.0f} MB"),
        (
            f"Scale, {s['triangles'] / 1e6:.0f} M triangles",
            f"{s['whole_seconds']:.1f} s",
            "≤ 25 s",
            f"read {s['read_seconds']:.1f} s, build {s['scene_seconds']:.1f} s, cast {s['casting_seconds']:.1f} s",
        ),
        ("Peak memory of that process", f"{s['peak_gigabytes']:.2f} GB", "≤ 5 GB", "the highest resident size"),
        *large_rows(f["large_maps"]),
        (
            "All kernels compiled, once at installation",
            f"{u['first_seconds']:.0f} s",
            "≤ 30 s",
            "empty cache, two processes",
        ),
        ("All checks, a million triangles", f"{f['checks']['seconds']:.1f} s", "< 5 s", "17 checks, warm kernels"),
        (
            f"All checks, {k['triangles'] / 1e6:.0f} M triangles",
            f"{k['seconds']:.1f} s",
            "≤ 20 s",
            f"a first time, warm kernels; peak {k['peak_gigabytes']:.1f} GB (aim 4)",
        ),
        *stand_in_rows(f["taking_in"]),
    ]
    return rows


def stand_in_rows(t: dict[str, Any]) -> list[Row]:
    """What a large sculpt costs before it is drawn."""
    return [
        (
            f"Stand-in of {t['triangles'] / 1e6:.0f} M triangles",
            f"{t['stand_in_seconds']:.1f} s",
            "≤ 6 s",
            f"for display, made once; reading and keeping the file {t['keep_seconds']:.1f} s before it",
        ),
        ("Peak memory of that", f"{t['peak_gigabytes']:.2f} GB", "≤ 5 GB", "the highest resident size"),
        (
            "A place of it looked at closely",
            f"{t['near_seconds']:.1f} s",
            "",
            f"every triangle within a tenth of its radius; within four tenths, through a stand-in of that place, {t['nearer_stand_in_seconds']:.1f} s",
        ),
    ]


def large_rows(m: dict[str, Any]) -> list[Row]:
    """All maps of a large sculpt beside its normals alone."""
    alone, whole = m["normal"], m["all"]
    slow = sorted(((s, n) for n, s in whole["stages"].items()), reverse=True)[:4]
    by_light = sum(whole["stages"].get(f"casting {name}", 0.0) for name in ("glow", "light", "rounded"))
    return [
        (
            f"All maps of {whole['triangles'] / 1e6:.0f} M triangles over the normal alone",
            f"{whole['seconds'] / alone['seconds']:.1f}",
            "≤ 3",
            f"{whole['seconds']:.0f} s for {whole['maps']} maps, 1024², one sample, over {alone['seconds']:.0f} s; most for "
            + ", ".join(f"{name} {seconds:.0f} s" for seconds, name in slow),
        ),
        (
            "The same without glow, light and rounded normals",
            f"{(whole['seconds'] - by_light) / alone['seconds']:.1f}",
            "≤ 3",
            "their stages taken off; rounded normals always take all 64 rays of a texel",
        ),
        (
            "Peak memory of that",
            f"{whole['peak_gigabytes']:.1f} GB",
            "≤ 5 GB",
            f"the normal alone {alone['peak_gigabytes']:.1f} GB",
        ),
    ]


def waiting_rows(f: dict[str, Any]) -> list[Row]:
    """What is waited for at the cage, at a handoff and at a start."""
    u, a, g, s = f["first_use"], f["latency"], f["leaving"], f["starts"]
    return [
        (
            "Coverage after a move of the reach",
            f"{1000 * a['coverage_seconds']:.0f} ms",
            "≤ 200 ms",
            "warm, a million triangles",
        ),
        ("Section at the pointer", f"{1000 * a['section_seconds']:.0f} ms", "≤ 100 ms", "the same"),
        (
            "Bake after one mend stroke, 1024²",
            f"{1000 * a['mend_seconds']:.0f} ms",
            "≤ 1 s",
            f"normal and occlusion at 16 rays; {a['mend_share']:.1%} of the tiles, {a['mend_over_whole']:.0%} of the time of the first bake",
        ),
        (
            "Fit of the cage",
            f"{a['fit_seconds']:.1f} s",
            "",
            f"once; holds {a['fit_held']:.2%}, rays start at {a['fit_share_of_even']:.0%} of the even reach that does",
        ),
        (
            "Handoff of a 2048² bake",
            f"{g['seconds']:.2f} s",
            "",
            f"{g['files']} files, {g['megabytes']:.0f} MB, one of them packed; copying them takes {g['copy_seconds']:.2f} s",
        ),
        ("A million triangles as GLB", f"{g['glb_seconds']:.2f} s", "", "written with normals"),
        (
            "The same with its low as a piece file",
            f"{g['save_seconds']:.2f} s",
            "",
            f"{g['piece_megabytes']:.0f} MB; opened and checked in {g['open_seconds']:.2f} s",
        ),
        *start_rows(u, s),
    ]


def start_rows(u: dict[str, Any], s: dict[str, Any]) -> list[Row]:
    """From a command to its answer."""
    return [
        ("Later starts", f"{u['later_seconds']:.1f} s", "≤ 2 s", "import and kernels from disk"),
        ("`--help`", f"{s['help_seconds']:.2f} s", "≤ 0.3 s", "best of three, from the command to its end"),
        (
            "A bake of a small piece",
            f"{s['bake_seconds']:.1f} s",
            "≤ 1.5 s",
            f"the same; 128², judged, with flaws; importing its libraries alone {s['libraries_seconds']:.1f} s",
        ),
        (
            "A server's first page",
            f"{s['page_seconds']:.1f} s",
            "≤ 1.5 s",
            f"from the command to the shelf; importing its libraries alone {s['web_seconds']:.1f} s",
        ),
    ]


def live_rows(v: dict[str, Any]) -> list[Row]:
    """What follows the hand, as a page waits for it through the lanes."""
    beside = "the worst of eight while a 2048² bake with occlusion is at work"
    return [
        (
            "Live: picture after a pocket",
            f"{v['pocket_seconds']:.2f} s",
            "≤ 0.3 s",
            "a million triangles, 512², all samples, warm",
        ),
        ("After a stroke", f"{v['stroke_seconds']:.2f} s", "≤ 0.3 s", "its tiles alone"),
        (
            "After a change of the whole reach",
            f"{v['reach_seconds']:.2f} s",
            "≤ 0.3 s",
            f"one sample a texel; judged with all samples after {v['judged_seconds']:.1f} s more",
        ),
        (
            "Dragged: pictures a second",
            f"{v['drag_reach_per_second']:.1f}",
            "≥ 5",
            f"the reach of the piece; a stroke {v['drag_stroke_per_second']:.1f}",
        ),
        (
            "Opened: low, stand-in, first picture",
            f"{v['first_low_seconds']:.1f}, {v['first_stand_in_seconds']:.1f}, {v['first_picture_seconds']:.1f} s",
            "0.5, 2, 3 s",
            f"of a million triangles never seen, the scene built; all three processes were ready {v['start_seconds']:.0f} s after the start",
        ),
        (
            "Probe beside a full bake",
            f"{1000 * v['probe_beside_seconds']:.0f} ms",
            "≤ 100 ms",
            f"{beside}; alone {1000 * v['probe_alone_seconds']:.0f} ms; section {1000 * v['section_beside_seconds']:.0f} ms",
        ),
        ("A file read beside it", f"{v['file_beside_seconds']:.2f} s", "≤ 2 s", f"{v['file_megabytes']:.1f} MB of OBJ"),
        (
            "Coverage, a draft beside it",
            f"{v['coverage_beside_seconds']:.2f}, {v['picture_beside_seconds']:.2f} s",
            "",
            beside,
        ),
    ]


def looking_rows(o: dict[str, Any], big: dict[str, Any]) -> list[Row]:
    """What judging costs, at a million triangles and at many."""
    return [
        (
            "As seen, 2048²",
            f"{o['seen_over_cast']:.2f}",
            "≤ 0.5",
            f"{o['seen_seconds']:.2f} s over {o['cast_seconds']:.2f} s of casting, 4 samples, a million triangles",
        ),
        ("The same with the best on this low", f"{o['judge_over_cast']:.2f}", "≤ 1", f"{o['judge_seconds']:.2f} s"),
        (
            "Judged again, as after a change of reach or cage",
            f"{o['judge_again_over_cast']:.2f}",
            "≤ 0.5",
            f"{o['judge_again_seconds']:.2f} s, the best on this low known",
        ),
        ("Flaws of it", f"{o['flaws_over_cast']:.2f}", "≤ 1", f"{o['flaws_seconds']:.2f} s, judged before"),
        (
            "Proof of it, judged, with flaws and files",
            f"{o['proof_seconds']:.2f} s",
            "≤ 1.5 s",
            "512², warm, cast anew",
        ),
        ("Measure of it", f"{o['measure_seconds']:.1f} s", "≤ 2 s", "some ten small bakes, warm"),
        ("Fit of its cage", f"{o['fit_seconds']:.1f} s", "≤ 3 s", "the sculpt located before"),
        (
            f"Proof of {big['triangles'] / 1e6:.0f} M triangles, judged, with flaws and files",
            f"{big['proof_seconds']:.1f} s",
            "≤ 5 s",
            f"512², warm, cast anew; the first look {sum(big['first_seconds'].values()):.0f} s; peak {big['peak_gigabytes']:.1f} GB",
        ),
        ("Measure of it", f"{big['measure_seconds']:.1f} s", "≤ 10 s", "warm"),
        ("Fit of its cage", f"{big['fit_seconds']:.1f} s", "≤ 15 s", "the sculpt located before"),
    ]


if __name__ == "__main__":
    main(sys.argv[1:])
