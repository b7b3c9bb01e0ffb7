"""Figures of a sheet of classes by numpy, straight from their formulas, to hold ours against."""

import json
import sys

import numpy as np

sheet = json.load(sys.stdin)
k = sheet["k"]
true, predicted = np.array(sheet["true"]), np.array(sheet["predicted"])
scores = np.array(sheet["scores"], dtype=np.float64).reshape(-1, k)
keep = true >= 0
true, predicted, scores = true[keep], predicted[keep], scores[keep]
n = len(true)
matrix = np.zeros((k, k))
np.add.at(matrix, (true, predicted), 1)
row, column, hits = matrix.sum(1), matrix.sum(0), np.diag(matrix)
there = row > 0
recall = hits[there] / row[there]
precision = np.where(column > 0, hits / np.maximum(column, 1), 0)[there]
f1 = (2 * hits / np.maximum(row + column, 1))[there]
expected = (row * column).sum() / n**2
one_hot = np.eye(k)[true]
figures = {
    "accuracy": hits.sum() / n,
    "balanced accuracy": recall.mean(),
    "precision, mean of classes": precision.mean(),
    "F1, mean of classes": f1.mean(),
    "F1, by examples": (f1 * row[there]).sum() / n,
    "kappa": (hits.sum() / n - expected) / (1 - expected),
    # Matthews' coefficient as the correlation of the two one-hot tables
    "correlation": (
        (one_hot - one_hot.mean(0)) * (np.eye(k)[predicted] - np.eye(k)[predicted].mean(0))
    ).sum()
    / np.sqrt(
        ((one_hot - one_hot.mean(0)) ** 2).sum()
        * ((np.eye(k)[predicted] - np.eye(k)[predicted].mean(0)) ** 2).sum()
    ),
}
if abs(scores.sum(1) - 1).max() < 0.01:
    figures["log loss"] = -np.log(np.maximum(1e-15, scores[np.arange(n), true])).mean()
    figures["Brier score"] = ((scores - one_hot) ** 2).sum(1).mean()
    top = scores[np.arange(n), predicted]
    bins = np.minimum(14, (top * 15).astype(int))
    figures["calibration error"] = sum(
        abs(top[bins == b].mean() - (predicted == true)[bins == b].mean()) * (bins == b).sum() / n
        for b in set(bins)
    )
if k > 4:
    order = np.argsort(-scores, axis=1, kind="stable")[:, :3]
    figures["top 3"] = (order == true[:, None]).any(1).mean()


def area(c):
    a, b = scores[true == c, c], scores[true != c, c]
    if not len(a) or not len(b):
        return None
    return float(((a[:, None] > b).sum() + ((a[:, None] == b).sum()) / 2) / (len(a) * len(b)))


def average(c):
    is_c, values = true == c, scores[:, c]
    if not is_c.any() or is_c.all():
        return None
    total = 0.0
    for at in sorted(set(values), reverse=True):
        here, above = (values == at) & is_c, values >= at
        total += here.sum() / is_c.sum() * (above & is_c).sum() / above.sum()
    return float(total)


def share(a, b):
    return [float(x / y) if y else None for x, y in zip(a, b)]


print(
    json.dumps(
        {
            "figures": {name: float(v) for name, v in figures.items()},
            "recall": share(hits, row),
            "precision": share(hits, column),
            "area": [area(c) for c in range(k)],
            "average": [average(c) for c in range(k)],
        }
    )
)
