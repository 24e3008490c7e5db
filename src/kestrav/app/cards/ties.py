"""What a run goes with: what it waits for, follows and takes along, and what becomes of it."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

import msgspec

from kestrav.app.cards.rows import Rows, replacing
from kestrav.core.document.lookup import get
from kestrav.core.document.records import Following, Hold, PartAim, Project, Run
from kestrav.core.editing.run_making import convoy, follow_on, linked_copy, run_to_poses, with_hold
from kestrav.core.findings.model import name_of
from kestrav.core.kinematics.runs import course_of
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.units import show


class TieRows(Rows):
    """Trigger, companions, following, holds, links."""

    def build(self, run: Run) -> None:
        project, form = self.session.shown, self.form
        if run.follows is None:
            self._trigger(run)
        self._blend(run)
        self._follows(run)
        self._company(run, project)
        self._holds(run, project)
        self._copies(run, project)
        form.buttons(
            (
                "Convert to pose track",
                lambda: self._to_poses(run),
                "Convert the run to key poses at times, without the path",
            ),
        )

    def _follows(self, run: Run) -> None:
        project, form, follows = self.session.shown, self.form, run.follows
        runs = [(r.id, r.name) for r in project.runs if r.id != run.id]
        form.choice(
            "Follow",
            [("", "none"), *runs],
            follows.run if follows is not None else "",
            lambda v: self._set(run.id, "Following", follows=Following(v) if v else None),
            "Keep a constant distance along the path behind another run",
        )
        if follows is not None:

            def change(**fields: Any) -> None:
                self._set(run.id, "Following", follows=msgspec.structs.replace(follows, **fields))

            self._fields(follows, "distance", change=change)

    def _company(self, run: Run, project: Project) -> None:
        form = self.form
        form.heading("Companions")
        for other in run.companions:
            form.buttons(
                (
                    f"Without {get(project, other).name}",
                    partial(
                        lambda o: self._set(
                            run.id, "Companions", companions=tuple(c for c in run.companions if c != o)
                        ),
                        other,
                    ),
                    "Remove this part from the run",
                )
            )
        options = [
            (p.id, p.name)
            for p in project.parts
            if p.id not in (run.rider, *run.companions) and (p.parent is None or p.geometry is None)
        ]
        form.choice(
            "Add companion",
            [("", "choose …"), *options],
            "",
            lambda v: self._set(run.id, "Companions", companions=(*run.companions, v)) if v else None,
            "Add a part that keeps its placement relative to the rider",
        )

    def _holds(self, run: Run, project: Project) -> None:
        form, length = self.form, course_of(project, run).path.length
        form.heading("Holds")

        def change(holds: tuple[Hold, ...]) -> None:
            self._set(run.id, "Hold", holds=tuple(sorted(holds, key=lambda h: h.place)))

        for i, hold in enumerate(run.holds):
            put = replacing(run.holds, i, change)
            form.number(
                f"Hold {i + 1} at",
                hold.place * length,
                "mm",
                partial(lambda f, v: f(place=v / length), put),
                "Station of the hold",
                1,
                10,
            )
            form.number(
                f"Hold {i + 1} for",
                hold.duration,
                "s",
                partial(lambda f, v: f(duration=v), put),
                "Duration of the hold",
                3,
                0.1,
            )
            if any(c.id == run.rider for c in project.cameras):
                looked = hold.look.part if isinstance(hold.look, PartAim) else ""
                things = [
                    ("", "along its path"),
                    *((p.id, p.name) for p in project.parts if p.geometry is None or p.parent is None),
                ]
                if looked and looked not in {t[0] for t in things}:
                    things.append((looked, name_of(project, looked)))
                form.choice(
                    "Aim",
                    things,
                    looked,
                    partial(lambda f, v: f(look=PartAim(v) if v else None), put),
                    "Aim of the camera during the hold",
                )
        form.buttons(
            (
                "Add hold here",
                lambda: self.session.edit("Hold", lambda p: with_hold(p, run.id, self.session.time)),
                "Add a hold of one second at the playhead; the run takes longer accordingly",
            ),
            ("Delete last hold", lambda: run.holds and change(run.holds[:-1]), "Delete the last hold"),
        )

    def _copies(self, run: Run, project: Project) -> None:
        form, ask = self.form, self.card.leading
        form.heading("Copies")
        linked = [r.name for r in project.runs if run.link and r.link == run.link and r.id != run.id]
        if linked:
            form.note("Linked with " + ", ".join(linked))
        form.fields(ask, "count", "spacing", change=ask.set)
        offers: list[tuple[str, Callable[[], object], str]] = [
            (
                "Make convoy",
                lambda: self.session.edit("Convoy", lambda p: convoy(p, run.id, ask.count, ask.spacing)),
                "Make linked copies of the rider that follow at this spacing",
            )
        ]
        if run.link:
            alone = lambda: self._set(run.id, "Unlink", link="")  # noqa: E731
            offers.append(("Unlink", alone, "Unlink this run from the others"))
        form.buttons(*offers)
        things = [
            (p.id, p.name) for p in project.parts if p.id != run.rider and (p.parent is None or p.geometry is None)
        ]
        things += [(c.id, f"camera {c.name}") for c in project.cameras if c.id != run.rider]
        things += [(light.id, f"light {light.name}") for light in project.lights if light.id != run.rider]
        paths = [
            ("", "the same path"),
            *((p.id, f"{p.name}, {show(path_curve(p).length, 'mm', 0)}") for p in project.paths),
        ]
        form.fields(ask, "path", change=ask.set, options=paths)
        form.choice(
            "Add linked run",
            [("", "choose …"), *things],
            "",
            lambda v: self._also(run, v, follow=False),
            "Add a linked run for another part",
        )
        form.choice(
            "Add follower",
            [("", "choose …"), *things],
            "",
            lambda v: self._also(run, v, follow=True),
            "Add a part that follows at the distance above",
        )

    def _also(self, run: Run, thing: str, *, follow: bool) -> None:
        if not thing:
            return
        ask, known = self.card.leading, {p.id for p in self.session.project.paths}
        path = ask.path if ask.path in known else run.path
        if follow:
            done = self.session.edit("Follow", lambda p: follow_on(p, run.id, thing, path, ask.spacing))
        else:
            done = self.session.edit("Linked run", lambda p: linked_copy(p, run.id, thing, path))
        if done:
            self.session.select(self.session.project.runs[-1].id)

    def _to_poses(self, run: Run) -> None:
        if self.session.edit("Convert to pose track", lambda p: run_to_poses(p, run.id)):
            self.session.select(self.session.project.pose_tracks[-1].id)
