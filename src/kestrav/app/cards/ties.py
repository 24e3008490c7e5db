"""What a run goes with: what it waits for, follows and takes along, and what becomes of it."""

from __future__ import annotations

from typing import Any

import msgspec

from kestrav.app.cards.rows import Rows
from kestrav.core.document.lookup import get
from kestrav.core.document.records import Following, Hold, PartAim, Project, Run
from kestrav.core.findings.model import name_of
from kestrav.core.motion.making import convoy, follow_on, linked_copy, run_to_poses, with_hold
from kestrav.core.motion.path_curves import path_curve
from kestrav.core.motion.runs import journey
from kestrav.core.units import show


class TieRows(Rows):
    """Cue, company, following, holds, links."""

    def build(self, run: Run) -> None:
        project, form = self.session.shown, self.form
        if run.follows is None:
            self._cue(run)
        self._blend(run)
        self._follows(run)
        self._company(run, project)
        self._holds(run, project)
        self._copies(run, project)
        form.buttons(
            ("Into key poses", lambda: self._to_poses(run), "Tell the same by poses at times, without the path"),
        )

    def _follows(self, run: Run) -> None:
        project, form, follows = self.session.shown, self.form, run.follows
        runs = [(r.id, r.name) for r in project.runs if r.id != run.id]
        form.choice(
            "Follows",
            [("", "no other run"), *runs],
            follows.run if follows is not None else "",
            lambda v: self._set(run.id, "Following", follows=Following(v) if v else None),
            "It keeps a constant distance along the path behind another run",
        )
        if follows is not None:
            form.number(
                "Behind by",
                follows.distance,
                "mm",
                lambda v: self._set(run.id, "Following", follows=msgspec.structs.replace(follows, distance=v)),
                "Along the path; with a minus it goes ahead",
                1,
                50,
            )

    def _company(self, run: Run, project: Project) -> None:
        form = self.form
        form.heading("Company")
        for other in run.company:
            form.buttons(
                (
                    f"Without {get(project, other).name}",
                    lambda o=other: self._set(run.id, "Company", company=tuple(c for c in run.company if c != o)),
                    "It does not go along any more",
                )
            )
        options = [
            (p.id, p.name)
            for p in project.parts
            if p.id not in (run.rider, *run.company) and (p.parent is None or p.geometry is None)
        ]
        form.choice(
            "Takes along",
            [("", "choose …"), *options],
            "",
            lambda v: self._set(run.id, "Company", company=(*run.company, v)) if v else None,
            "Another thing that keeps its arrangement with the rider",
        )

    def _holds(self, run: Run, project: Project) -> None:
        form, length = self.form, journey(project, run).path.length
        form.heading("Holds")

        def change(holds: tuple[Hold, ...]) -> None:
            self._set(run.id, "Hold", holds=tuple(sorted(holds, key=lambda h: h.place)))

        for i, hold in enumerate(run.holds):

            def put(k: int = i, **fields: Any) -> None:
                every = list(run.holds)
                every[k] = msgspec.structs.replace(every[k], **fields)
                change(tuple(every))

            form.number(
                f"Hold {i + 1} at",
                hold.place * length,
                "mm",
                lambda v, f=put: f(place=v / length),
                "Where on the path it stands",
                1,
                10,
            )
            form.number(
                f"Hold {i + 1} for", hold.duration, "s", lambda v, f=put: f(duration=v), "How long it stands", 3, 0.1
            )
            if any(c.id == run.rider for c in project.cameras):
                looked = hold.look.part if isinstance(hold.look, PartAim) else ""
                things = [
                    ("", "where it goes"),
                    *((p.id, p.name) for p in project.parts if p.geometry is None or p.parent is None),
                ]
                if looked and looked not in {t[0] for t in things}:
                    things.append((looked, name_of(project, looked)))
                form.choice(
                    "Looks at",
                    things,
                    looked,
                    lambda v, f=put: f(look=PartAim(v) if v else None),
                    "What the camera turns to while it stands there",
                )
        form.buttons(
            (
                "Hold here",
                lambda: self.session.edit("Hold", lambda p: with_hold(p, run.id, self.session.time)),
                "Stand for a second where it is at the playhead; it takes so much longer",
            ),
            ("Delete last hold", lambda: run.holds and change(run.holds[:-1]), "Take the last hold away"),
        )

    def _copies(self, run: Run, project: Project) -> None:
        form, ask = self.form, self.card.leading
        form.heading("Copies")
        linked = [r.name for r in project.runs if run.link and r.link == run.link and r.id != run.id]
        if linked:
            form.note("Goes as " + ", ".join(linked) + " do" + ("es" if len(linked) == 1 else ""))
        form.number(
            "Things",
            ask.count,
            "",
            lambda v: ask.set(count=round(v)),
            "How many go in the convoy, this one among them",
            0,
        )
        form.number(
            "Apart", ask.spacing, "mm", lambda v: ask.set(spacing=v), "Along the path, from pivot to pivot", 0, 50
        )
        offers = [
            (
                "Make a convoy",
                lambda: self.session.edit("Convoy", lambda p: convoy(p, run.id, ask.count, ask.spacing)),
                "Linked copies of the rider that follow it at this distance",
            )
        ]
        if run.link:
            alone = lambda: self._set(run.id, "Go alone", link="")  # noqa: E731
            offers.append(("Go alone", alone, "Changes of the others do not change this run any more"))
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
        form.choice("On", paths, ask.path, lambda v: ask.set(path=v), "On which path the other thing goes")
        form.choice(
            "Also goes",
            [("", "choose …"), *things],
            "",
            lambda v: self._also(run, v, follow=False),
            "Another thing goes as this run does, linked with it",
        )
        form.choice(
            "Follows it",
            [("", "choose …"), *things],
            "",
            lambda v: self._also(run, v, follow=True),
            "Another thing keeps the distance above behind this run",
        )

    def _also(self, run: Run, thing: str, follow: bool) -> None:
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
        if self.session.edit("Into key poses", lambda p: run_to_poses(p, run.id)):
            self.session.select(self.session.project.poses[-1].id)
