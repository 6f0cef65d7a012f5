"""Write the documentation that is generated: docs/design-file.md."""

from pathlib import Path

from calor.design.reference import design_file_reference

if __name__ == "__main__":
    target = Path(__file__).parent.parent / "docs" / "design-file.md"
    target.write_text(design_file_reference(), encoding="utf-8")
    print(f"wrote {target.name}")
