"""The Journal room: what worked in March is found in June."""

from __future__ import annotations

from calor.desk.room import Command, Page, Room
from calor.desk.widgets.places import over_the_window
from calor.errors import CalorError


class JournalRoom(Room):
    """Its journal is opened when it is first needed."""

    name, title, purpose = "journal", "Journal", "runs"
    has_ribbon, has_bench, shows_design = False, False, False

    def build(self) -> Page:
        from calor.desk.journal.page import JournalPage

        return JournalPage(self.desk)

    def commands(self) -> list[Command]:
        runs = self.desk.runs
        return [
            Command("Write to journal", "Ctrl+J", self._keep, "file", lambda: runs.current is not None),
            Command("Report…", "", self._report, "file", lambda: runs.current is not None),
        ]

    def _report(self) -> None:
        from calor.desk.journal.taking import report_open

        report_open(self.desk, over_the_window())

    def _keep(self) -> None:
        try:
            number = self.desk.kept.keep_run()
        except CalorError as error:
            self.desk.say("error", str(error))
        else:
            self.desk.say("note", f"Kept in the journal as run {number}.")

    def close_down(self) -> None:
        if self.is_built:
            self.page.detail.write()  # type: ignore[attr-defined]
        self.desk.kept.close()
