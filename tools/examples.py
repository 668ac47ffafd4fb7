"""The examples in Python of the README and the manual, as files.

python tools/examples.py FOLDER
"""

import re
import sys
from pathlib import Path

_ROOT = Path(__file__).resolve().parent.parent


def examples() -> list[tuple[str, str]]:
    """Each example, with a name of the page that it is on."""
    found = []
    for page in (_ROOT / "README.md", *sorted((_ROOT / "docs").glob("*.md"))):
        texts = re.findall(r"```python\n(.*?)```", page.read_text(encoding="utf-8"), re.DOTALL)
        name = page.stem.lower().replace("-", "_")
        found += [(f"{name}_{number}", text) for number, text in enumerate(texts)]
    return found


if __name__ == "__main__":
    for name, text in examples():
        (Path(sys.argv[1]) / f"{name}.py").write_text(text, encoding="utf-8")
