"""The moments of schedules, worked out once more: otherwise, and with Python's zoneinfo.

Reads JSON Lines of {"every", "at", "on", "zone", "not_on", "from", "until"}; writes a JSON list of seconds for each.
"""
import calendar
import datetime as dt
import json
import sys
import zoneinfo

DAYS = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"]
NTH = ["first", "second", "third", "fourth"]


def weekdays(text):
    first, _, last = text.partition("-")
    at, end = DAYS.index(first), DAYS.index(last or first)
    found = {at}
    while at != end:
        at = (at + 1) % 7
        found.add(at)
    return found


def is_on(rule, day):
    every, on = rule["every"], rule["on"]
    last = calendar.monthrange(day.year, day.month)[1]
    if every in ("hour", "day", "week"):
        good = not on or any(day.weekday() in weekdays(one) for one in on)
    elif every == "month":
        good = False
        for one in on:
            if isinstance(one, int):
                good |= day.day == one
            elif one == "last":
                good |= day.day == last
            else:
                which, name = one.split(" ")
                if day.weekday() == DAYS.index(name):
                    good |= day.day + 7 > last if which == "last" else (day.day - 1) // 7 == NTH.index(which)
    else:
        good = day.strftime("%m-%d") in on
    for text in rule["not_on"]:
        first, _, end = text.partition("..")
        end = end or first
        if text[0].isalpha():
            good &= day.weekday() not in weekdays(text)
        elif len(first) == 5:
            date = day.strftime("%m-%d")
            good &= not (first <= date <= end if first <= end else date >= first or date <= end)
        else:
            good &= not first <= day.isoformat() <= end
    return good


def instant(wanted, zone):
    """The first instant at which a clock of the zone shows this; where none does, the first at which it shows more."""
    plain = int(wanted.replace(tzinfo=dt.timezone.utc).timestamp())
    local = lambda at: dt.datetime.fromtimestamp(at, zone)
    offsets = {int(local(plain + hours * 3600).utcoffset().total_seconds()) for hours in (-40, -15, 15, 40)}
    shown = [plain - offset for offset in offsets if local(plain - offset).replace(tzinfo=None) == wanted]
    if shown:
        return min(shown)
    at = plain - max(offsets) - 60
    while local(at).replace(tzinfo=None) < wanted:
        at += 60
    return at


def moments(rule):
    zone = zoneinfo.ZoneInfo(rule["zone"])
    found = []
    if rule["every"] == "hour":
        at = rule["from"] // 60 * 60 + 60
        while at <= rule["until"]:
            local = dt.datetime.fromtimestamp(at, zone)
            if "%02d" % local.minute in rule["at"] and is_on(rule, local.date()):
                found.append(at)
            at += 60
        return found
    day = dt.datetime.fromtimestamp(rule["from"], zone).date() - dt.timedelta(days=2)
    end = dt.datetime.fromtimestamp(rule["until"], zone).date() + dt.timedelta(days=2)
    while day <= end:
        if is_on(rule, day):
            for text in rule["at"]:
                hour, minute = map(int, text.split(":"))
                wanted = dt.datetime(day.year, day.month, day.day, hour, minute)
                found.append(instant(wanted, zone))
        day += dt.timedelta(days=1)
    return sorted({at for at in found if rule["from"] < at <= rule["until"]})


for line in sys.stdin:
    print(json.dumps(moments(json.loads(line))))
