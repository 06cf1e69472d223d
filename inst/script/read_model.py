"""Predicts from a Kilnwright model file without R:

    python3 read_model.py MODEL TABLE.csv > predicted.csv

Reads plain.json of the file, which docs/model-file.md describes; needs nothing beyond Python 3."""

import csv, json, math, re, sys, zipfile
from datetime import date, datetime, timezone


def read_value(text, column, codes):
    """A cell as a float, a text or None; dates as days since 1970."""
    text = text.strip()
    if text in ("", "NA") or text in codes:
        return None
    if column["kind"] == "number":
        text = without_unit(text, column.get("unit", {}))
        if column.get("blanks"):
            text = re.sub("(?<=[0-9])[ \u00a0\u202f](?=[0-9]{3}(?![0-9]))", "", text)
        if column.get("commas") == "thousands":
            text = text.replace(",", "")
        elif column.get("commas") == "decimal" and "," in text:
            text = text.replace(".", "").replace(",", ".")
        value = float(text)
        return None if any(value == float(c) for c in codes if is_number(c)) else value
    if column["kind"] == "date":
        day, clock = text, ""
        if column["moment"]:
            day, clock = re.fullmatch("([^ T]+)[ T]?(.*)", text).groups()
        days = (day_of(day, column["format"]) - date(1970, 1, 1)).days
        return days + (seconds_of(clock) / 86400 if column["moment"] and clock else 0)
    if column["kind"] == "ordered" and text not in column["levels"]:
        return None
    return text


def without_unit(text, unit):
    before, after = unit.get("before"), unit.get("after")
    sign = text[0] if text[0] in "+-" else ""
    if before and text[len(sign):].startswith(before):
        text = sign + text[len(sign) + len(before):].lstrip(" ")
    return text[:-len(after)].rstrip(" ") if after and text.endswith(after) else text


def day_of(text, form):
    try:
        return datetime.strptime(text, form).date()
    except ValueError:  # names of months may be in full
        return datetime.strptime(text, form.replace("%b", "%B")).date()


def seconds_of(clock):
    """Of the day, in UTC: 14:30, 14:30:00.5, 2:30 PM, 14:30Z, 14:30+02:00."""
    half = r"(?: ?([AaPp])\.?[Mm]\.?)?"
    form = r"(\d+):(\d+)(?::(\d+(?:\.\d+)?))?" + half + r" ?(?:Z|UTC|([+-])(\d\d):?(\d\d)?)?"
    hours, minutes, seconds, half, sign, ahead, rest = re.fullmatch(form, clock).groups()
    if half:
        hours = int(hours) % 12 + (12 if half in "Pp" else 0)
    zone = int(ahead or 0) * 3600 + int(rest or 0) * 60
    given = int(hours) * 3600 + int(minutes) * 60 + float(seconds or 0)
    return given + zone if sign == "-" else given - zone


def is_number(text):
    try:
        return math.isfinite(float(text))
    except ValueError:
        return False


def yeo_johnson(x, power):
    if x >= 0:
        return math.log1p(x) if abs(power) < 1e-6 else ((x + 1) ** power - 1) / power
    other = 2 - power
    return -math.log1p(-x) if abs(other) < 1e-6 else -((1 - x) ** other - 1) / other


def box_cox(x, power):
    return math.log(x) if abs(power) < 1e-6 else (x ** power - 1) / power


def between(x, grid, values):
    """Straight lines between points, level beyond them."""
    if len(grid) < 2:
        return values[0] if grid and values else 0.0
    if x <= grid[0]:
        return values[0]
    for i in range(1, len(grid)):
        if x <= grid[i]:
            share = (x - grid[i - 1]) / (grid[i] - grid[i - 1])
            return values[i - 1] + share * (values[i] - values[i - 1])
    return values[-1]


def known(f):
    return lambda x: None if x is None else f(x)


def date_parts(step, name, days):
    if days is None:
        n = sum(2 if step["cyclic"] and p in PERIODS else 1 for p in step["parts"])
        return [None] * n
    moment = datetime.fromtimestamp(days * 86400, timezone.utc)
    value = {
        "elapsed": days - step["starts"][name], "year": moment.year, "month": moment.month,
        "day_of_year": moment.timetuple().tm_yday, "weekday": moment.weekday() + 1,
        "day": moment.day, "hour": moment.hour + moment.minute / 60,
    }
    out = []
    for part in step["parts"]:
        if step["cyclic"] and part in PERIODS:
            angle = 2 * math.pi * value[part] / PERIODS[part]
            out += [math.sin(angle), math.cos(angle)]
        else:
            out.append(float(value[part]))
    return out


PERIODS = {"month": 12, "day_of_year": 365.25, "weekday": 7, "day": 30.4375, "hour": 24}


def use_step(step, row):
    kind = step["step"]
    if kind == "missing":
        flagged = zip(step["flagged"], step["flags"])
        flags = {flag: float(row[name] is None) for name, flag in flagged}
        for name, fill in step["fills"].items():
            row[name] = fill if row[name] is None else row[name]
        row.update(flags)
    elif kind == "rare_levels":
        for name, levels in step["levels"].items():
            if row[name] is not None and row[name] not in levels:
                row[name] = "other"
    elif kind == "onehot":
        made = []
        for name, levels in step["levels"].items():
            value = row.pop(name)
            made += [float(value == level) for level in levels]
        row.update(zip(step["names"], made))
    elif kind == "ordinal":
        for name, levels in step["levels"].items():
            if row[name] is not None:
                row[name] = float(levels.index(row[name]) + 1) if row[name] in levels else 0.0
    elif kind == "frequency":
        for name, shares in step["shares"].items():
            row[name] = shares.get(row[name], 0.0)
    elif kind == "target_mean":
        made = []
        for name, found in step["means"].items():
            value = row.pop(name)
            at = found["levels"].index(value) if value in found["levels"] else -1
            made.append(found["means"][at])
        row.update(zip(step["names"], [v for values in made for v in values]))
    elif kind == "scale":
        for name, centre in step["centre"].items():
            row[name] = known(lambda x: (x - centre) / step["spread"][name])(row[name])
    elif kind == "skew":
        for name, c in step["columns"].items():
            row[name] = known({
                "log": lambda x: math.log(max(x + c["shift"], c["floor"])),
                "box_cox": lambda x: box_cox(max(x + c["shift"], c["floor"]), c["power"]),
                "yeo_johnson": lambda x: yeo_johnson(x, c["power"]),
                "normal": lambda x: between(x, c["grid"], c["scores"]),
            }[step["by"]])(row[name])
    elif kind == "outliers":
        for name, (low, high) in step["limits"].items():
            row[name] = known(lambda x: min(max(x, -math.inf if low is None else low),
                                            math.inf if high is None else high))(row[name])
    elif kind == "bins":
        for name, cuts in step["cuts"].items():
            row[name] = known(lambda x: "bin%d" % (sum(x >= cut for cut in cuts) + 1))(row[name])
    elif kind == "polynomial":
        made = []
        for name, centre in step["centre"].items():
            z = known(lambda x: (x - centre) / step["spread"][name])(row[name])
            made += [known(lambda x: x ** power)(z) for power in step["powers"]]
        row.update(zip(step["names"], made))
    elif kind == "interactions":
        made = []
        for a, b in step["pairs"]:
            if row[a] is None or row[b] is None:
                made.append(None)
            else:
                made.append((row[a] - step["centres"][a]) * (row[b] - step["centres"][b]))
        row.update(zip(step["names"], made))
    elif kind == "components":
        z = []
        for name, centre in step["centre"].items():
            value = row.pop(name)
            z.append(0.0 if value is None else (value - centre) / step["spread"][name])
        for j, name in enumerate(step["names"]):
            row[name] = sum(value * load[j] for value, load in zip(z, step["loadings"]))
    elif kind == "dates":
        made = []
        for name in step["starts"]:
            made += date_parts(step, name, row.pop(name))
        row.update(zip(step["names"], made))
    elif kind in ("drop", "drop_constant", "drop_correlated", "keep_top"):
        for name in step["columns"]:
            row.pop(name, None)
    elif kind not in ("balance", "recalibrate", "outcome_scale"):
        raise SystemExit("This reader does not know the step " + kind + ".")


def answer(tree, q, z, equal):
    """-1 left, 1 right, 0 none."""
    questions = tree["questions"]
    value = z[questions["input"][q]]
    if value is None:
        return 0
    if questions["side"][q] >= 0:
        sides = tree["sides"][questions["side"][q]]
        return sides[value - 1] if value <= len(sides) else 0
    cut = questions["cut"][q]
    lower = value <= cut if equal == "left" else value < cut
    return -1 if lower == (questions["lower"][q] == "left") else 1


def leaf(tree, z, equal):
    nodes, at = tree["nodes"], 0
    while nodes["left"][at] >= 0:
        side, first = 0, nodes["first"][at]
        for q in range(first, first + nodes["count"][at]):
            side = answer(tree, q, z, equal)
            if side != 0:
                break
        way = "left" if side < 0 else "right" if side > 0 else "otherwise"
        to = nodes[way][at]
        if to == at:
            break
        at = to
    return [values[at] for values in tree["values"]]


def sums(form, row):
    if form["form"] == "constant":
        return list(form["values"])
    z = []
    for name in form["inputs"]:
        value, levels = row[name], form.get("levels", {}).get(name)
        if levels is not None and value is not None:
            last = len(levels) + 1 if form["unseen"] == "last" else None
            value = levels.index(value) + 1 if value in levels else last
        z.append(value)
    if form["form"] == "linear":
        return [
            one["intercept"] + sum(v * b for v, b in zip(z, one["slopes"]))
            for one in form["outputs"]
        ]
    if form["form"] == "hinges":
        terms = []
        for term in form["terms"]:
            product = 1.0
            for part in term:
                value = z[part["input"]]
                if part["side"] == "above":
                    value = max(value - part["knot"], 0)
                elif part["side"] == "below":
                    value = max(part["knot"] - value, 0)
                product *= value
            terms.append(product)
        return [sum(t * b for t, b in zip(terms, one)) for one in form["outputs"]]
    out = []
    for group in form["groups"]:
        leaves = [leaf(tree, z, form["equal"]) for tree in group["trees"]]
        share = len(leaves) if form["combine"] == "mean" else 1
        out += [start + sum(values) / share for start, values in zip(group["start"], zip(*leaves))]
    return out


def logistic(x):
    return 1 / (1 + math.exp(-x)) if x >= 0 else math.exp(x) / (1 + math.exp(x))


def linked(form, eta):
    link = form["link"]
    if link == "exp":
        return [math.exp(x) for x in eta]
    if link == "logistic":
        return [1 - logistic(eta[0]), logistic(eta[0])]
    if link in ("softmax", "against_rest"):
        p = [math.exp(x - max(eta)) if link == "softmax" else logistic(x) for x in eta]
        return [x / sum(p) for x in p]
    if link == "cumulative":
        up_to = [0] + [logistic(cut - eta[0]) for cut in form["cuts"]] + [1]
        return [b - a for a, b in zip(up_to, up_to[1:])]
    return eta


def recalibrated(maps, p):
    def one(how, x):
        if how["by"] == "isotonic":
            return between(x, how["at"], how["value"]) if len(how["at"]) > 1 else how["value"][0]
        x = min(max(x, 1e-5), 1 - 1e-5)
        sides = [math.log(x), -math.log1p(-x)]
        if how["by"] == "platt":
            sides = [sum(sides)]
        return logistic(how["constant"] + sum(s * v for s, v in zip(how["slopes"], sides)))

    if len(maps) == 1:
        q = one(maps[0], p[1])
        return [1 - q, q]
    q = [one(how, x) for how, x in zip(maps, p)]
    return [x / sum(q) for x in q]


def root(z, power):
    return math.exp(z) if abs(power) < 1e-6 else max(power * z + 1, 1e-12) ** (1 / power)


def own_unit(scale, z):
    def back(z):
        z = min(max(z, scale["reach"][0]), scale["reach"][1])
        by, power = scale["by"], scale["power"]
        if by == "log":
            return math.exp(z)
        if by == "log1p":
            return math.expm1(z)
        if by == "sqrt":
            return max(z, 0) ** 2
        if by == "box_cox":
            return root(z, power)
        return root(z, power) - 1 if z >= 0 else 1 - root(-z, 2 - power)

    if scale["back"] == "median":
        return back(z)
    return sum(back(z + error) for error in scale["errors"]) / len(scale["errors"])


def predict_member(member, row, classes):
    row = dict(row)
    for step in member["steps"]:
        use_step(step, row)
    p = linked(member["model"], sums(member["model"], row))
    if "recalibration" in member:
        p = recalibrated(member["recalibration"], p)
    if classes and len(member["present"]) < len(classes):
        p = [p[member["present"].index(c)] if c in member["present"] else 0.0 for c in classes]
    if "scale" in member:
        p = [own_unit(member["scale"], x) for x in p]
    if "lowest" in member:
        p = [max(x, member["lowest"]) for x in p]
    return p


def main(model_file, table_file):
    with zipfile.ZipFile(model_file) as parts:
        model = json.loads(parts.read("plain.json"))
    if not model["plain"]:
        raise SystemExit("This model cannot be read here: " + model["why"] + ".")
    # R's lists of no names are arrays in JSON
    codes = model["missing_codes"] or {}
    has_classes = model["outcome_kind"] in ("two_class", "many_class", "ordered")
    classes = model["classes"] if has_classes else None
    out = csv.writer(sys.stdout)
    names = model["classes"] or ["value"]
    out.writerow(["class"] * bool(classes) + [("p_" if classes else "") + name for name in names])
    with open(table_file, newline="", encoding="utf-8-sig") as file:
        head = file.readline()
        file.seek(0)
        rows = csv.reader(file, delimiter=max(",;\t|", key=head.count))
        heads = next(rows)
        for cells in rows:
            if not cells and len(heads) > 1:  # in a single column a blank line is a gap
                continue
            cells = dict(zip(heads, cells or [""]))
            row = {name: read_value(cells[name], column, codes.get(name, []))
                   for name, column in model["columns"].items()}
            total = None
            for member in model["members"]:
                found = [member["weight"] * x for x in predict_member(member, row, classes)]
                total = found if total is None else [a + b for a, b in zip(total, found)]
            called = []
            if classes:
                at = total.index(max(total))
                if model["threshold"] is not None:
                    at = int(total[1] >= model["threshold"])
                called = [classes[at]]
            out.writerow(called + [repr(x) for x in total])


if __name__ == "__main__":
    main(*sys.argv[1:3])
