"""The dialog that spreads a total mass."""

from PySide6.QtWidgets import QWidget

from artuline.desk.widgets.dialog import Dialog
from artuline.desk.widgets.fields import NumberField, faint, row


class BalanceDialog(Dialog):
    """A total mass to spread."""

    def __init__(self, parent: QWidget, now: float, usual: float, what: str):
        super().__init__(parent, "Balance the masses", "Balance", 380)
        self._field = NumberField(usual or now, "kg", step=0.2, decimals=1, low=0.001, high=1e6, name="Total mass")
        self._field.setAccessibleName("Total mass")
        self.body.addWidget(row("Total mass", self._field))
        if usual > 0.0:
            self.body.addWidget(faint(f"All bodies weigh {now:.1f} kg now; {what} would weigh about {usual:.1f} kg."))
        self.body.addWidget(
            faint(
                "Where the bones name the parts of a person, by published shares of the body's mass (Winter 2009, after "
                "Dempster 1955). Else by volume, with joined bodies no more than eight times apart."
            )
        )
        self.finish()

    def total(self) -> float:
        """The mass chosen, kg."""
        return self._field.value
