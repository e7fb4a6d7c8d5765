"""Which sherds were fired in the same kiln? Groups glazed sherds by the chemistry of their glaze.

Reads sherds.csv beside this file, and writes into the folder given (default: results):
scores.csv (a row a sherd), summary.json (the groups) and sherds.png (the figure).
"""

import argparse
import json
from pathlib import Path

import matplotlib

matplotlib.use("Agg")

import matplotlib.pyplot as plt
import numpy as np
import pandas as pd
from scipy.cluster.hierarchy import fcluster, linkage
from scipy.stats import f_oneway

COMPONENTS = 3
MOST_KILNS = 8


def centred_log_ratio(parts: pd.DataFrame) -> pd.DataFrame:
    """Percentages that add up to 100 are not free of each other; ratios to their geometric mean are."""
    logs = np.log(parts)
    return logs.sub(logs.mean(axis=1), axis=0)


def principal_components(table: pd.DataFrame) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Scores, loadings, and the share of the variance that each component explains."""
    centred = (table - table.mean()).to_numpy()
    left, strengths, loadings = np.linalg.svd(centred, full_matrices=False)
    signs = np.sign(loadings[np.arange(len(loadings)), np.abs(loadings).argmax(axis=1)])
    return left * strengths * signs, loadings * signs[:, None], strengths**2 / np.sum(strengths**2)


def silhouette(scores: np.ndarray, groups: np.ndarray) -> float:
    """How much nearer a sherd is to its own group than to the next one, on average (-1 to 1)."""
    distances = np.linalg.norm(scores[:, None, :] - scores[None, :, :], axis=2)
    widths = []
    for at, own in enumerate(groups):
        to = {group: distances[at, groups == group] for group in np.unique(groups)}
        inside = to[own].sum() / max(len(to[own]) - 1, 1)
        outside = min(values.mean() for group, values in to.items() if group != own)
        widths.append((outside - inside) / max(outside, inside))
    return float(np.mean(widths))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("results", nargs="?", default="results", help="folder for the results")
    results = Path(parser.parse_args().results)
    results.mkdir(parents=True, exist_ok=True)

    sherds = pd.read_csv(Path(__file__).with_name("sherds.csv"), index_col="sherd")
    oxides = sherds.select_dtypes("number")
    ratios = centred_log_ratio(oxides)
    scores, loadings, explained = principal_components(ratios)

    tree = linkage(scores[:, :COMPONENTS], method="ward")
    trials = {count: fcluster(tree, count, criterion="maxclust") for count in range(2, MOST_KILNS + 1)}
    quality = {count: silhouette(scores[:, :COMPONENTS], groups) for count, groups in trials.items()}
    kilns = max(quality, key=quality.__getitem__)
    groups = pd.factorize(trials[kilns])[0] + 1  # numbered as they are met, which other programs do too

    table = sherds[["trench", "glaze"]].copy()
    table["kiln"] = [f"K{group}" for group in groups]
    for at in range(COMPONENTS):
        table[f"PC{at + 1}"] = scores[:, at]
    table.to_csv(results / "scores.csv", lineterminator="\n")

    telling = {
        oxide: f_oneway(*(ratios.loc[groups == group, oxide] for group in np.unique(groups))).statistic
        for oxide in oxides
    }
    most_telling = sorted(telling, key=telling.__getitem__, reverse=True)[:4]
    summary = {
        "sherds": len(sherds),
        "kilns": int(kilns),
        "silhouette": {str(count): value for count, value in quality.items()},
        "explained": [float(share) for share in explained[:COMPONENTS]],
        "most telling oxides": most_telling,
        "mean per cent by weight": {
            f"K{group}": oxides[groups == group].mean().round(3).to_dict() for group in np.unique(groups)
        },
    }
    (results / "summary.json").write_text(json.dumps(summary, indent=2) + "\n")
    draw(table, loadings, explained, list(oxides), results / "sherds.png")
    print(f"{len(sherds)} sherds, most likely of {kilns} kilns; told apart best by {', '.join(most_telling)}")


def draw(table: pd.DataFrame, loadings: np.ndarray, explained: np.ndarray, oxides: list[str], path: Path) -> None:
    """The sherds on the first two components, with the oxides that spread them."""
    figure, axes = plt.subplots(figsize=(9, 6), dpi=120, layout="constrained")
    for (kiln, members), marker in zip(table.groupby("kiln"), "os^Dvp*X", strict=False):
        axes.scatter(members["PC1"], members["PC2"], s=26, marker=marker, alpha=0.8, label=f"{kiln} ({len(members)})")
    reach = [0.8 * table[name].abs().max() / np.abs(loadings[at]).max() for at, name in enumerate(["PC1", "PC2"])]
    for oxide, x, y in zip(oxides, loadings[0] * reach[0], loadings[1] * reach[1], strict=True):
        axes.plot([0, x], [0, y], color="0.6", linewidth=0.8, zorder=0)
        label = axes.text(x * 1.07, y * 1.07, oxide, color="0.2", fontsize=9, ha="center", va="center")
        label.set_bbox({"facecolor": "white", "alpha": 0.75, "edgecolor": "none", "pad": 0.5})
    axes.set_xlabel(f"component 1 ({explained[0]:.0%} of the variance)")
    axes.set_ylabel(f"component 2 ({explained[1]:.0%})")
    axes.set_title("Glazed sherds by glaze chemistry (centred log-ratios)")
    axes.legend(title="kiln (sherds)", frameon=False, loc="upper left", bbox_to_anchor=(1.0, 1.0))
    axes.spines[["top", "right"]].set_visible(False)
    figure.savefig(path, metadata={"Software": None})


if __name__ == "__main__":
    main()
