"""A newcomer: follows “next” alone, does what is asked, answers what is seen; every key counts, none without effect.

``python -m tests.tui.newcomer MACHINE`` walks a demonstration from its delivery to the end of Shake, and prints keys.
"""

from __future__ import annotations

import re
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from tests.tui.inside import Inside
from tests.tui.screen import Screen

PANEL, PANEL_COLUMN = "█  ", 39
"""How a line of the question begins, and where: large figures are drawn with the same block."""

MOST_VISITS = 9
"""So often "next" may lead to the same station: its trials, mends that were kept, and their confirmation."""

NUDGES = {"clearly apart": "1", "a little apart": "2", "a little ridged": "3", "clearly ridged": "4"}
VERDICTS = {"apart": "1", "closed": "2", "ridged": "3", "nothing": "4"}
AWAY = {"left of": ("x", 1), "right of": ("x", -1), "in front of": ("y", 1), "behind": ("y", -1)}
"""Which way to go when something stands there beside what it is to stand over."""

FINGER_MM = 8.0
MOST_NOWHERE = 60
"""Looks at which "next" leads nowhere before the walk is over."""

STILL_S = 0.25
MOST_SAID, MOST_AGAIN = 300, 8
"""So much of a question is printed; so often it may be the same one."""


POSTS = {"clean": "1", "strings": "2", "gap after": "3", "strings and gap": "4"}
"""The number of what a pair of posts looks like."""

Numbered = list[tuple[int, int, str]]
"""Numbers from and to, with what those look like; words that follow several ranges stand at the last one."""


def spread(numbered: Numbered) -> Numbered:
    """The same with the words at every range."""
    words, made = "", []
    for low, high, own in reversed(numbered):
        words = own.strip(" ,") or words
        made.append((low, high, words))
    return made[::-1]


def pick(numbered: Numbered) -> str:
    """The lines that look even; else where bulged ones go over into thin ones."""
    looks = spread(numbered)
    even = [at for low, high, words in looks if words == "even" for at in (low, high)]
    bulged = [high for _, high, words in looks if "bulged" in words]
    thin = [low for low, _, words in looks if "thin" in words]
    if not even and not thin:
        return "beyond"
    if not even and not bulged:
        return "below"
    low, high = (min(even), max(even)) if even else (max(bulged), min(thin))
    return f"{low}" if low == high else f"{low}-{high}"


def runs(text: str) -> bool:
    """Whether a trial runs, by the line of the pulse."""
    return any(line.lstrip().startswith("◆") for line in text.split("\n")[-4:])


class Newcomer:
    """Presses the keys that the screen names; keys counts them."""

    def __init__(self, screen: Inside | Screen, say: Callable[[str], None] = lambda words: None) -> None:
        self.screen, self.keys, self.say = screen, 0, say
        self.visits: dict[str, int] = {}
        self._nudged = ""

    def press(self, *names: str) -> None:
        """Keys, each of which must change the screen."""
        for name in names:
            before = self.screen.text()
            self.screen.key(name)
            self.keys += 1
            end = time.monotonic() + 10
            while self.screen.text() == before:
                assert time.monotonic() < end, f"{name} had no effect on\n{before}"

    def type(self, text: str) -> None:
        """Something that is typed, and taken by enter."""
        self.screen.type(text)
        self.keys += len(text)
        self.press("Enter")

    def question(self, text: str) -> list[str]:
        """Lines of the question that is put now."""
        return [line[PANEL_COLUMN + 1 :].strip() for line in text.split("\n") if line[PANEL_COLUMN:].startswith(PANEL)]

    def still(self, asked: list[str]) -> bool:
        """Whether a real terminal shows the same question a moment later: its lines come one after the other."""
        time.sleep(STILL_S)
        return self.question(self.screen.text()) == asked

    def answer(self, lines: list[str]) -> None:
        """What is asked for is done by the keys of the demonstration, and answered by what is seen there."""
        body = " ".join(lines)
        seen = body.partition("at the machine:")[2].partition("in the demonstration")[0].strip()
        if pressed := re.search(r"(?:Press|Let) the (X endstop|Y endstop|Z endstop|probe)", body):
            word = pressed.group(1).split()[0].lower()
            number = next(key for key, name in re.findall(r"(\d) (\w+)", lines[-1]) if name == word)
            self.press(number, "Enter")
        elif "enter takes it" in body:
            self.typed(body, seen)
        elif "Jog" in body or "lower Z" in body or "Lower" in body:
            self.jog(body, seen)
        elif re.search(r"(?:^|    )1 \w", "\n".join(lines[1:]), re.MULTILINE) and not self.fitting(lines, seen):
            self.watch(seen)
        else:
            self.choose(lines, seen)

    def typed(self, body: str, seen: str) -> None:
        """A reading, a verdict for each patch or pair of posts, or a pick, as the machine shows it."""
        numbered = [
            (int(low), int(high or low), words)
            for low, high, words in re.findall(r"(\d+)(?:-(\d+))? ?((?:a little |clearly )?[a-z][a-z ]*)?", seen)
        ]
        if "Which line is even" in body or "corners even" in body:
            self.type(pick(numbered))
            return
        if "what do you see?" in body:
            names = re.search(r"one number for each of (.+?), or “all 1”", body)
            self.type(" ".join("2" if name in seen else "1" for name in (names.group(1) if names else "").split(", ")))
            return
        if "between the two posts" in body:
            looks = {at: words for low, high, words in spread(numbered) for at in range(low, high + 1)}
            self.type(" ".join(POSTS[looks[at]] for at in sorted(looks)))
            return
        if "verdict" in body or "all 1" in body:
            looks = re.findall(r": (?:a little |clearly )?(apart|closed|ridged|nothing)", seen)
            self.type(" ".join(VERDICTS[word] for word in looks))
            return
        if "the mark is gone" in seen:
            self.type("gone")
            return
        read = re.search(r"(?:on the [\w -]+:|shows|over) (-?[\d.]+)", seen)
        if read is not None:  # else it is not drawn yet
            self.type(read.group(1))

    def watch(self, seen: str) -> None:
        """Beside something that goes on: a nudge where lines look wrong, once for each look."""
        key = next((key for words, key in NUDGES.items() if words in seen), "")
        if key and seen != self._nudged:
            self._nudged = seen
            self.press(key)
        else:
            time.sleep(0.05)
            self.screen.text()

    def jog(self, body: str, seen: str) -> None:
        """Towards what it is to stand over, to the edge, or down onto the gauge; then the first answer."""
        beside = re.findall(r"([\d.]+) mm (left of|right of|in front of|behind)", seen)
        moves = [(AWAY[words], float(mm)) for mm, words in beside if float(mm) >= 0.3]
        left = re.search(r"([\d.]+) mm are left", seen)
        air = re.search(r"about ([\d.]+) mm of air", seen)
        if moves:
            (axis, way), mm = moves[0]
            self.type(f"{axis}{way * mm:+.1f}")
        elif left is not None and abs(float(left.group(1)) - FINGER_MM) > 2:
            by = float(left.group(1)) - FINGER_MM
            far = re.search(r"as far (?:right|to the right|to the back)", body) is not None
            self.type(f"{by if far else -by:+.1f}")
        elif air is not None:
            self.type(f"{-max(0.05, float(air.group(1)) - 0.1):.2f}")
        elif "it is loose" in seen:
            self.type("-0.02")
        elif "does not go in" in seen:
            self.type("+0.02")
        else:
            self.press("Enter" if " enter " in f" {body}" else "1")

    def fitting(self, lines: list[str], seen: str) -> str:
        """The key of the answer that says what is seen; empty: none does."""
        if "does not go in" in seen or "loose" in seen:
            seen += " adjusted"  # by the demonstration's own hands, once this is answered
        wanted = " ".join(re.findall(r"[a-z0-9]+", seen.lower()))
        options = re.findall(r"(?:^|(?<=    ))(enter|\w) ((?:\S+ )*?\S+)(?:    |$)", "\n".join(lines[1:]), re.MULTILINE)
        fits = [
            (len(label), key)
            for key, label in options
            if re.search(rf"\b{' '.join(re.findall('[a-z0-9]+', label.lower()))}\b", wanted)
        ]
        return max(fits)[1] if fits else ""

    def choose(self, lines: list[str], seen: str) -> None:
        """The answer that says what is seen; else the usual one."""
        key = self.fitting(lines, seen) or "enter"
        self.press("Enter" if key == "enter" else key)

    def walk(self, until: str, seconds: float = 300.0) -> None:
        """Follow "next" until it leads to a station; empty: until it leads nowhere any more."""
        end = time.monotonic() + seconds
        before: list[str] = []
        again = nowhere = 0
        pressed = -1
        while time.monotonic() < end:
            text = self.screen.text()
            if "▌  Saved" in text:  # a notice over the heading, which goes by itself
                self.screen.gone("▌  Saved")
                continue
            if asked := self.question(text):
                if isinstance(self.screen, Screen) and not self.still(asked):
                    continue
                self.say(f"{self.keys} keys, asked: {' '.join(asked)[:MOST_SAID]}")
                if asked != before:
                    again = 0
                elif self.keys != pressed:
                    again += 1
                else:  # nothing was found to be answered: it is not drawn yet
                    time.sleep(0.05)
                pressed = self.keys
                assert again < MOST_AGAIN or "1 " in " ".join(asked), f"the same question again and again:\n{text}"
                before = asked
                self.answer(asked)
            elif runs(text):
                time.sleep(0.05)
                self.screen.text()
            elif "K keep and save" in text:
                self.press("K")
                self.screen.wait("enter save")
                self.press("Enter")
                self.screen.gone("enter save")
            elif "restarting" in text or "uploading" in text:
                time.sleep(0.1)
            elif leads := re.search(r"next +F2 ([\w ]+?),.*", text):
                if self.follow(leads.group(1), leads.group(0), until):
                    return
            elif not until and (nowhere := nowhere + 1) > MOST_NOWHERE:
                return
            else:
                continue
            nowhere = 0
        raise AssertionError(f"the walk did not get there:\n{self.screen.text()}")

    def follow(self, station: str, words: str, until: str) -> bool:
        """Go where "next" leads, and start there; whether that is where the walk ends."""
        if station == until:
            return True
        if station == "port and link":  # it is measured by itself
            self.screen.gone(words.rstrip())
            return False
        self.visits[station] = self.visits.get(station, 0) + 1
        assert self.visits[station] <= MOST_VISITS, f"next leads in a circle:\n{self.screen.text()}"
        self.say(f"{self.keys} keys, {station}")
        self._nudged = ""
        self.press("F2")
        if "not yet verified" in words and station.endswith("control"):
            while words.strip() in (text := self.screen.text()) and "v verifies" not in text:
                time.sleep(0.05)
            if "v verifies" in text:  # else it was verified while this was read
                self.press("v")
            return False
        starts = "enter write / settle" if station == "write to board" else "enter start"
        while starts not in (text := self.screen.text()) and not runs(text):
            time.sleep(0.05)
        if not runs(text):  # else it began while this was read
            self.press("Enter")
        return False


def main(machine: str, until: str) -> None:
    """Walk a demonstration, and print where it is."""
    screen = Inside(Path(tempfile.mkdtemp()), f"{machine}-{'280' if machine == 'tern' else '180'}")
    try:
        screen.wait("no errors")
        newcomer = Newcomer(screen, lambda words: print(words, flush=True))
        newcomer.walk(until, 3600.0)
        print(f"{newcomer.keys} keys in all; visits: {newcomer.visits}")
    finally:
        print(screen.text())
        screen.close()


if __name__ == "__main__":
    main(sys.argv[1], sys.argv[2] if len(sys.argv) > 2 else "")
