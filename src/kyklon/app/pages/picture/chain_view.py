"""The chain: what is plugged into what, what each plug carries, what does not go together."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QWidget

from kyklon.app.pages.picture.chain_drawing import ChainDrawing, LeadDrawn, PlaceDrawn
from kyklon.app.pages.picture.light import LightView
from kyklon.app.pages.tab_view import side_px
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, FigureRows, Sheet, column, label, row, scrolled
from kyklon.base.quantities import show
from kyklon.catalogue.records import Adapter, Display
from kyklon.operations.picture import colour
from kyklon.operations.picture.chain import EN_50049, Chain, Lead, Place, chain_of

_LEVELS = "into 75\u202fΩ"


class ChainView(LightView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.drawing = ChainDrawing(self.theme)
        self.instrument = self.drawing
        self._sheet = Sheet("Signal chain", "from the board's socket to the screen")
        self._sheet.add(self.drawing)
        self._troubles = Sheet("Mismatches")
        self._words = label("", "", wrap=True)
        self._words.setAlignment(Qt.AlignmentFlag.AlignTop)
        self._troubles.add(scrolled(self._words))
        self._figures = FigureRows(self.theme)
        self._pins = Sheet("Connector pins")
        self._pins.add(scrolled(self._figures))
        self._colour = Sheet("Colour in composite video")
        self._sent = Choice(self.theme, "The machine sends", lambda _value: self._show_colour())
        self._takes = Choice(self.theme, "The TV accepts", lambda _value: self._show_colour())
        names = tuple((system.name, system.name) for system in colour.SYSTEMS)
        self._sent.set_choices(names, names[0][0])
        self._takes.set_choices(names, names[0][0])
        self._seen = label("", "", wrap=True)
        self._colour.add(
            row(label("sends", "small"), self._sent), row(label("TV accepts", "small"), self._takes), self._seen, 1
        )
        side = QWidget()
        side.setLayout(column(self._colour))
        side.setFixedWidth(side_px(self.theme))
        below = row(self._troubles, self._pins, side, spacing=12)
        below.setStretch(0, 1)
        below.setStretch(1, 1)
        whole = column(self._sheet, below, spacing=12)
        whole.setStretch(0, 1)
        whole.setStretch(1, 1)
        self.setLayout(whole)

    def refresh(self) -> None:
        """Override."""
        chain = chain_of(self.build, self.session.catalogue, self.session.world)
        faults: dict[str, str] = {}
        for trouble in chain.troubles:
            faults[trouble.place] = "stop" if trouble.stops or faults.get(trouble.place) == "stop" else "caution"
        self.drawing.show_chain(
            tuple(self._place(place, faults.get(place.role, "")) for place in chain.places),
            tuple(self._lead(lead, chain) for lead in chain.leads),
        )
        delay = f"adds {chain.delay_ms:g}\u202fms" if chain.delay_ms else "adds no delay"
        self._sheet.set_note(f"from the board's socket to the screen; {delay}" if chain.places else "")
        self._troubles.set_note("" if chain.troubles else "nothing")
        told = "\n\n".join(f"{trouble.title}\n{trouble.words} {trouble.do}" for trouble in chain.troubles)
        fine = "Connectors, signals, sync and clocks match from end to end."
        missing = "The display is not plugged in yet; Plan connects the parts."
        self._words.setText(told or (fine if chain.whole else missing))
        self._show_pins(chain)
        self._show_colour()

    def _place(self, place: Place, fault: str) -> PlaceDrawn:
        part = place.part
        kind = place.kind if not isinstance(part, Display) else "tube" if part.tube else "panel"
        facts = [f"sync: {place.sync}"] if place.sync != "digital" else ["digital"]
        if place.kind == "adapter" and place.sync_v:
            facts.append(f"{show(place.sync_v, 'V', prefix='')} {_LEVELS}")
        low, high = place.clock
        if high:
            least = f"{low / 1e6:g} to " if low else "to "
            facts.append(f"{least}{high / 1e6:g}\u202fMHz")
        if isinstance(part, Display):
            facts += [f"{band.line_khz[0]:g} to {band.line_khz[1]:g}\u202fkHz" for band in part.ranges]
        if isinstance(part, Adapter):
            facts += [f"{part.least_width} pixels or more"] if part.least_width else []
            facts += ["needs HDMI, not DVI"] if part.needs_hdmi else []
            facts += [f"{place.delay_ms:g}\u202fms later"] if place.delay_ms else []
        enters = place.enters.connector if place.enters else ""
        leaves = place.leaves.connector if place.leaves else ""
        return PlaceDrawn(kind, part.name, enters, leaves, tuple(facts), fault)

    def _lead(self, lead: Lead, chain: Chain) -> LeadDrawn:
        length = f"{lead.cable.length_m:g}\u202fm" if lead.cable else "no cable"
        rate = f"3 × {lead.bits_s / 1e6:.0f}\u202fMbit/s" if lead.bits_s else ""
        tied = any(
            trouble.code == "tied" and lead.link.start.startswith(f"{trouble.place}.") for trouble in chain.troubles
        )
        return LeadDrawn(lead.signal, length, rate, "stop" if tied or lead.cable is None else "")

    def _show_pins(self, chain: Chain) -> None:
        enters = chain.places[-1].enters if chain.whole else None
        connector = enters.connector if enters else ""
        if connector == "EN 50049":
            self._pins.set_note("EN 50049-1")
            self._figures.set_rows(tuple((f"pin {number}", words) for number, words in EN_50049))
            return
        rows = {
            "DE-15": (
                ("pins 1, 2, 3", "red, green, blue"),
                ("pins 6, 7, 8", "their grounds"),
                ("pin 13", "H-sync"),
                ("pin 14", "V-sync"),
                ("pins 12, 15", "DDC data and clock"),
            ),
            "HDMI A": (
                ("channels 0 to 2", "picture and sound"),
                ("clock", "a tenth of the bits"),
                ("DDC", "EDID"),
                ("hot plug", "signals that a display is connected"),
            ),
            "RCA": (("tip", "composite, 1 V into 75 Ω"), ("shell", "ground")),
        }.get(connector, ())
        self._pins.set_note(connector)
        self._figures.set_rows(rows)

    def _show_colour(self) -> None:
        by_name = {system.name: system for system in colour.SYSTEMS}
        sent, takes = by_name[self._sent.value], by_name[self._takes.value]
        found = colour.seen(sent, takes)
        carrier = show(float(sent.subcarrier_hz), "Hz", 6, prefix="M")
        menu = self.build.picture.menu.timing
        near = abs(menu.horizontal_hz / sent.line_hz - 1) < 0.03
        dots = f" {colour.crawl(sent, menu)}" if near else ""
        self._seen.setText(
            f"{found.words}\n\nSubcarrier {carrier}, {float(sent.cycles):.4g} cycles a line, "
            f"{sent.pedestal:g}\u202f% pedestal (ITU-R BT.470).{dots}"
        )
