"""Functions of our own for printout.toml."""

import re

from wadi import Page, PageData


def printout(page: Page) -> PageData:
    """A row for each gauging: below its spring, which is below its district."""
    rows, district, spring, following = [], None, None, None
    for line in page.value("pre").splitlines():
        if line.startswith("DISTRICT "):
            district = line.split(maxsplit=1)[1]
        elif heading := re.fullmatch(r" *(MW-\d+) +(.+)", line):
            spring = {"district": district, "code": heading[1], "name": heading[2]}
        elif more := re.search(r"CONTINUED ON PART (\d+)", line):
            following = f"?part={more[1]}"
        else:
            rows += [{**spring, "day": day, "flow": flow} for day, flow in re.findall(r"([\d.]{10}) +([\d.]+)", line)]
    return PageData(rows=rows, next=following)
