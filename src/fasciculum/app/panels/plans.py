"""Plans: what goes together, weighed; a plot of those that no other beats, and what they are to keep."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QSpinBox

from fasciculum.app.colors import WAY_WORDS
from fasciculum.app.fields import ComboBox, SpinBox
from fasciculum.app.look import Theme
from fasciculum.app.panels.plot import PlanPlot
from fasciculum.app.parts import Column, Form, Switch, note
from fasciculum.app.workspace import Workspace
from fasciculum.model.choices import Combine, Share, Treatment
from fasciculum.model.counting import counted
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.document import Document
from fasciculum.model.settings import settings_of
from fasciculum.model.terms import MOST_SHEETS, Terms
from fasciculum.operations.ledger import ledger_of
from fasciculum.operations.plan.plan import NAMES, Plan, Plans, keeps, misses_of, named_among
from fasciculum.operations.plan.take import planned_bundles
from fasciculum.operations.plan.views import seen_in
from fasciculum.session import commands
from fasciculum.session.tasks import plan_task
from fasciculum.units import MIB

#: milliseconds without a change until plans are weighed again
REST = 150
SIZES = (512, 1024, 2048, 4096, 8192, 16384)
_DELIVERY = {entry.name: entry.setting for entry in settings_of(DeliverySettings)}
COMBINE_WORDS: dict[Combine, str] = {Combine(key): words for key, words in _DELIVERY["combine"].words.items()}
COMBINE_TIP, REGION_TIP = _DELIVERY["combine"].tip, _DELIVERY["region"].tip


class PlanPanel(Column):
    """The plot, three numbers that plans are to keep, and the largest sheet."""

    def __init__(self, workspace: Workspace, theme: Theme) -> None:
        super().__init__()
        self.workspace = workspace
        self.box.setContentsMargins(0, 0, 0, 0)
        self.plans: Plans | None = None
        #: what the fold's line says
        self.short = ""
        self.said: Callable[[], None] = lambda: None
        self._asked: object = None
        #: what a typical view was worked out of, and the words for it
        self._viewed: tuple[tuple[object, ...], str] = (None, None, None), ""
        self._filling = False
        self.plot = PlanPlot(theme)
        self.words = note()
        self.words.setMinimumHeight(44)
        row = QHBoxLayout()
        row.setSpacing(4)
        self.buttons: dict[str, QPushButton] = {}
        tips = {
            "balanced": "Apply the plan with the best ratio of draw calls and memory within the limits below",
            "fewest": "Apply the plan with the fewest draw calls",
            "smallest": "Apply the plan with the least texture memory",
            "sharpest": "Apply the plan with the highest sharpness",
        }
        for name in NAMES:
            button = QPushButton(name.capitalize())
            button.setToolTip(tips[name])
            button.setStyleSheet("padding: 3px 2px; font-size: 11px")
            button.clicked.connect(lambda _=False, name=name: self.take(name))
            self.buttons[name] = button
            row.addWidget(button)
        form = Form()
        self.sharpness = self._number(5, 100, 5, " %", "")
        self.memory = self._number(0, 1_000_000, 4, " MiB", "as source")
        self.calls = self._number(0, 100_000, 1, "", "any number")
        self.largest = ComboBox()
        for edge in SIZES:
            self.largest.addItem(f"{edge} px", edge)
        form.row(
            "Sharpness",
            self.sharpness,
            "Sharpness in % that nine tenths of the surface keep: sheet density over source density. "
            "Other plans are grey.",
        )
        form.row("Max. memory", self.memory, "Highest texture memory, in MiB. Plans above it are grey.")
        form.row("Max. draw calls", self.calls, "Highest number of draw calls. Plans above it are grey.")
        form.row("Largest sheet", self.largest, "Edge of the largest sheet, in px, that plans may use.")
        self.sheets = self._number(0, MOST_SHEETS, 1, "", "auto")
        form.row(
            "Sheets",
            self.sheets,
            "Number of sheets over which the objects of each alpha mode are divided, auto for as many as pays: what "
            "shares textures lies together, and what stands close.",
        )
        self.share = Switch("on one place")
        form.row(
            "Shared texels",
            self.share,
            "Islands that read overlapping parts of a texture share one place on the sheet, where that takes less.",
        )
        self.combine = ComboBox()
        for combine, words in COMBINE_WORDS.items():
            self.combine.addItem(words, combine)
        form.row("Merge meshes", self.combine, COMBINE_TIP)
        self.region = self._number(0, 100_000, 5, " m", "no cells")
        form.row("Merge cell size", self.region, REGION_TIP)
        for widget in (self.plot, self.words):
            self.box.addWidget(widget)
        self.box.addLayout(row)
        self.box.addWidget(form)
        self.joined = QLabel()
        self.joined.setProperty("quiet", True)
        self.joined.setWordWrap(True)
        self.box.addWidget(self.joined)
        self.sharpness.valueChanged.connect(lambda value: self._change(sharpness=value / 100))
        self.memory.valueChanged.connect(lambda value: self._change(memory=float(value) * MIB))
        self.calls.valueChanged.connect(lambda value: self._change(calls=value))
        self.largest.activated.connect(lambda _: self._change(largest=self.largest.currentData()))
        self.sheets.valueChanged.connect(lambda value: self._change(sheets=value))
        self.share.clicked.connect(lambda on: self._change(share=Share.AUTO if on else Share.NEVER))
        self.combine.activated.connect(lambda _: self._deliver(combine=Combine(self.combine.currentData())))
        self.region.valueChanged.connect(lambda value: self._deliver(region=float(value)))
        self.plot.pointed.connect(self._point)
        self.plot.clicked.connect(self._take)
        self._rest = QTimer(self, singleShot=True, interval=REST)
        self._rest.timeout.connect(self._weigh)
        workspace.document_changed.connect(lambda *_: self.refresh())
        workspace.stage_changed.connect(self.refresh)
        self.refresh()

    @staticmethod
    def _number(low: int, high: int, step: int, unit: str, unset: str) -> QSpinBox:
        box = SpinBox()
        box.setRange(low, high)
        box.setSingleStep(step)
        box.setSuffix(unit)
        if unset:
            box.setSpecialValueText(unset)
        box.setKeyboardTracking(False)
        return box

    # -- what is shown ----------------------------------------------------------------------------------------

    @property
    def terms(self) -> Terms:
        """What plans are to keep."""
        return self.workspace.document.terms

    def refresh(self) -> None:
        """Show the plans, and have them weighed again when what they are about has changed; at the stage of plans."""
        if self.workspace.stage != "gather":
            return
        document = self.workspace.document
        terms = self.terms
        self._filling = True
        self.sharpness.setValue(round(terms.sharpness * 100))
        self.memory.setValue(round(terms.memory / MIB))
        self.calls.setValue(terms.calls)
        self.largest.setCurrentIndex(max(self.largest.findData(terms.largest), 0))
        self.sheets.setValue(terms.sheets)
        self.share.setChecked(terms.share == Share.AUTO)
        delivery = document.delivery
        self.combine.setCurrentIndex(max(self.combine.findData(delivery.combine), 0))
        self.region.setValue(round(delivery.region))
        self.region.setEnabled(delivery.combine == Combine.BUNDLE)
        self._filling = False
        asked = terms.largest, terms.padding, terms.sheets, terms.share
        about = document.scene, delivery.combine, delivery.region, *asked
        if document.scene.objects and about != self._asked:
            self._asked = about
            self._rest.start()
        self._show()

    def _weigh(self) -> None:
        document, asked = self.workspace.document, self._asked
        if not document.scene.objects:
            # they have gone since; asked again when there are some
            self._asked = None
            return

        def take(plans: Plans) -> None:
            if asked is self._asked:
                self.plans = plans
                self._show()

        self.workspace.run(plan_task(document, self.terms), take, anew=True)

    def _named(self) -> dict[str, Plan]:
        return (
            {} if self.plans is None else named_among(self.plans.front, self.plans.now, self.terms, self.plans.vertices)
        )

    def _show(self) -> None:
        document = self.workspace.document
        plans = self.plans
        front = list(plans.front) if plans is not None and document.scene.objects else []
        named = self._named()
        front = self._legible(front, list(named.values()))
        now = None
        if plans is not None:
            after = ledger_of(document).after
            now = float(after.draw_calls), float(after.texture_bytes)
        places = {id(plan): number for number, plan in enumerate(front)}
        names = {places[id(plan)]: name for name, plan in named.items() if id(plan) in places and name == "balanced"}
        source = None if plans is None else (float(plans.now.draw_calls), float(plans.now.texture_bytes))
        barred = [plans is not None and not keeps(plan, plans.now, self.terms) for plan in front]
        self.plot.show_plans(front, barred, names, source, now)
        for button in self.buttons.values():
            button.setEnabled(bool(front))
        best = named.get("balanced")
        self.short = "none yet" if best is None else f"{best.draw_calls} draw calls · {_size(best)}"
        if self.plot.at < 0:
            self._say_balance()
        self.joined.setText(self._view_words(document))
        self.said()

    def _view_words(self, document: Document) -> str:
        """Return what is drawn in a typical view, and what joining would make of it; worked out once a change."""
        about = document.scene, document.bundles, document.delivery
        if any(one is not other for one, other in zip(about, self._viewed[0], strict=True)):
            self._viewed = about, self._seen_words(document)
        return self._viewed[1]

    def _seen_words(self, document: Document) -> str:
        bundles = [bundle for bundle in document.bundles if bundle.objects]
        delivery = document.delivery
        joins = delivery.combine == Combine.BUNDLE
        if not bundles:
            return f"Draw calls are of meshes {'joined' if joins else 'apart'}."
        other = replace(delivery, combine=Combine.NONE if joins else Combine.BUNDLE)
        now, then = (seen_in(document, bundles, settings) for settings in (delivery, other))
        words = "joined" if joins else "apart"
        return (
            f"Draw calls are of meshes {words}. A typical view draws {now.calls:.0f} of them and {now.triangles:,.0f} "
            f"triangles; {'apart' if joins else 'joined, by Deliver'}: {then.calls:.0f} and {then.triangles:,.0f}."
        )

    def _legible(self, front: list[Plan], always: list[Plan]) -> list[Plan]:
        """Return the plans without those whose marks would hide another that keeps more of what is asked."""
        if self.plans is None:
            return []
        now, terms = self.plans.now, self.terms
        shown: list[Plan] = []
        cells: set[tuple[int, int]] = set()
        first = {id(plan) for plan in always}
        for plan in sorted(front, key=lambda one: (id(one) not in first, not keeps(one, now, terms), -one.point[2])):
            cell = round(math.log2(plan.draw_calls) * 5), round(math.log2(max(plan.texture_bytes, 1024)) * 3)
            if cell not in cells or id(plan) in first:
                cells.add(cell)
                shown.append(plan)
        return sorted(shown, key=lambda one: (not keeps(one, now, terms), one.draw_calls))

    def _say_balance(self) -> None:
        best = self._named().get("balanced")
        missed = [] if best is None or self.plans is None else misses_of(best, self.plans.now, self.terms)
        limited = bool(self.terms.memory or self.terms.calls)
        if best is None:
            self.words.setText("")
        elif missed and limited:
            self.words.setText(f"No plan fits; the nearest is {_words(best)}: {', '.join(missed)}.")
        else:
            self.words.setText(f"Balanced: {_words(best)}. Point at a mark to see its plan.")

    # -- what is done -----------------------------------------------------------------------------------------

    def _change(self, **values: object) -> None:
        if not self._filling:
            self.workspace.apply("Change the plans' limits", lambda document: commands.set_terms(document, **values))

    def _deliver(self, **values: object) -> None:
        if not self._filling:
            words = "Change how meshes are merged"
            self.workspace.apply(words, lambda document: commands.set_delivery(document, **values))

    def _point(self, plan: Plan | None) -> None:
        """Show in list, ledger and model what a plan would lead to."""
        if plan is None:
            self._say_balance()
            self.workspace.pointing = False
            self.workspace.preview(None)
            return
        counts: dict[Treatment, int] = {}
        for bundle in plan.bundles:
            for _, way in bundle.ways:
                counts[way] = counts.get(way, 0) + 1
        parts = ", ".join(f"{count} {WAY_WORDS[way]}" for way, count in sorted(counts.items(), key=lambda one: -one[1]))
        self.words.setText(f"{_words(plan)}. Materials: {parts}.")
        self.workspace.pointing = True
        self.workspace.preview(self._as_planned(plan))

    def _as_planned(self, plan: Plan) -> Document:
        document = self.workspace.document
        # shares are left for when it is taken: what is shown while pointing does not need them
        quick = planned_bundles(document.scene, plan, commands.PLAN_SHEET, commands.PLAN_BAKE)
        return commands.put_plan(document, quick)

    def take(self, name: str) -> None:
        """Take a plan by its name."""
        plan = self._named().get(name)
        if plan is not None:
            self._take(plan, name)

    def _take(self, plan: Plan, name: str = "") -> None:
        self.plot.point(-1)
        self.workspace.take_plan(name, plan.point)


def _size(plan: Plan) -> str:
    size = plan.texture_bytes / MIB
    return f"{size:.0f} MiB" if size >= 10 else f"{size:.2g} MiB"


def _words(plan: Plan) -> str:
    calls = counted(plan.draw_calls, "draw call")
    sharp = "no textures to keep" if math.isnan(plan.p10) else f"sharpness {plan.p10:.0%}"
    more = f", {plan.added:,} vertices more" if plan.added else ""
    return f"{calls}, {_size(plan)}, {sharp}{more}"
