"""Write the documentation that is generated: docs/design-file.md and the manual page."""

from pathlib import Path

from calor.cli.application import application
from calor.cli.manual import page
from calor.design.reference import design_file_reference

if __name__ == "__main__":
    root = Path(__file__).parent.parent
    for target, text in (
        (root / "docs" / "design-file.md", design_file_reference()), (root / "share" / "calor.1", page(application())),
    ):  # fmt: skip
        target.write_text(text, encoding="utf-8")
        print(f"wrote {target.name}")
