"""What is wrong with an image file: file, line, what was found and what was expected."""

from __future__ import annotations

from ..errors import Finding, RefusedFault


class ImageFault(RefusedFault):
    """An image file that cannot be read. `line` counts from 1; None if the fault has no line."""

    def __init__(
        self, file: str, line: int | None, found: str, expected: str, *attempts: str, key: str = "image-format"
    ) -> None:
        place = file if line is None else f"{file}, line {line}"
        super().__init__(
            Finding(
                key,
                f"{place}: {found}",
                evidence=(f"expected {expected}",) if expected else (),
                attempts=attempts or ("build or copy the file again",),
            )
        )
        self.file = file
        self.line = line
        self.found = found
        self.expected = expected
