"""The index of a row: its elements by tag, class and id."""

from __future__ import annotations

from lxml import etree

Element = etree._Element


class Index:
    """The elements below one, by tag, class and id, in document order: made in one walk, asked by every field of a row."""

    __slots__ = ("_by_id", "all", "by_class", "by_tag", "scope")

    def __init__(self, scope: Element) -> None:
        self.scope = scope
        self.all: list[Element] = []
        self.by_tag: dict[str, list[Element]] = {}
        self.by_class: dict[str, list[Element]] = {}
        self._by_id: dict[str, list[Element]] | None = None
        walk = scope.iter("*")
        next(walk)
        every, by_tag, by_class = self.all.append, self.by_tag, self.by_class
        for element in walk:
            every(element)
            tag = element.tag
            known = by_tag.get(tag)
            if known is None:
                by_tag[tag] = [element]
            else:
                known.append(element)
            classes = element.get("class")
            if classes:
                for name in (classes,) if classes.isalnum() else dict.fromkeys(classes.split()):
                    known = by_class.get(name)
                    if known is None:
                        by_class[name] = [element]
                    else:
                        known.append(element)

    @property
    def by_id(self) -> dict[str, list[Element]]:
        """The elements by their id; made when it is first wanted, since rows are seldom asked for ids."""
        if self._by_id is None:
            self._by_id = {}
            for element in self.all:
                if (name := element.get("id")) is not None:
                    self._by_id.setdefault(name, []).append(element)
        return self._by_id
