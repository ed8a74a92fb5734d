"""Lines that could have shown what the runs showed, and how likely each is late in an hour.

Nobody knows a line from a few looks of ten seconds. So many lines are drawn that agree with them,
and each says its chance; their mean is the chance, and nine in ten of them its interval. A line is:

- **levels** that last a while. Which ones, and how often: the runs' own with weights by the
  Bayesian bootstrap (Rubin, Annals of Statistics 9, 1981). Below the lowest ones by exceedances:
  the logarithm falls short of a low threshold by an exponential amount (Hill, Annals of
  Statistics 3, 1975; Davison and Smith, J. R. Statist. Soc. B 52, 1990), whose rate has a gamma
  posterior. How long one lasts: from what changed between two looks, any order of magnitude as
  likely at first.
- **dips** under the level, each run's critical rate as a share of its level, by the same two rules.
- **what nobody saw**: dips of a rate with a gamma posterior after so much time without one, most of
  them shallow.
- **shows that were aired** choose among the lines: one that says "late for sure" of a show that
  held counts for little.
- a **doubt** about the scale of it all, in proportion to how much the runs differ.

The constants were chosen on made lines of five kinds and tried on others
(``benchmarks/forecast.py``, docs/forecast.md).
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from eager_kestrel.core.arrays import Floats, Indices
from eager_kestrel.core.forecast.watched import Watched

DRAWS = 400
LOW_SHARE = 0.15
"""Of the runs that make the lower tail."""
UNSEEN_WEIGHT = 0.5
"""Of one run, given to what lies below all that was seen."""
LEVEL_TAIL = 0.01
"""The mean shortfall of logarithms a level's tail has before anything is seen, once observed."""
DIP_TAIL = 0.003
HIDDEN_SHAPE = 0.05
HIDDEN_SECONDS = 60.0
"""Before anything is watched, dips nobody saw come as if none had in a minute; the shape below one
says that most lines have none."""
HIDDEN_DEPTH = 2.0
"""Half as deep, four times as rare."""
STEADY_SHARE = 0.4
"""How likely a level lasts for the whole time, before anything is seen."""
POOL = 8
"""Times as many lines are drawn to choose from, where shows were aired."""
LEAST_CHANCE = 1e-3
"""A line that says less of what happened may still be the line."""
BELIEVED = 0.5
"""The power of each quarter's likelihood: quarters of one show are no independent witnesses, since
a level may last through several. Chosen so that intervals cover (``benchmarks/forecast.py``)."""
LEAST_SHARE_LEFT = 0.1
LASTS_SECONDS = np.exp(np.linspace(np.log(8.0), np.log(8 * 3600.0), 60))
"""How long it may last otherwise, each as likely."""
QUANTILES = np.concatenate([np.logspace(-5, -2, 24)[:-1], np.linspace(0.01, 0.999, 64)])
"""At which a distribution of levels is read, close together where it is low."""


@dataclass(frozen=True, slots=True)
class Tailed:
    """A distribution of each line: weights on what was seen, a power of what lies below.

    Shapes: ``seen`` (m,), the others (draws,) or (draws, m).
    """

    seen: Floats
    """From the threshold up, rising."""
    power: Floats
    below: Floats
    """The chance of less than the threshold."""
    cumulative: Floats
    """The chance of at most each seen one."""

    def quantiles(self, chances: Floats) -> Floats:
        """Values at chances of shape (draws or 1, count); shape (draws, count)."""
        short = np.minimum(chances / self.below[:, None], 1) ** (1 / self.power[:, None])
        low = self.seen[0] * short
        spread = np.broadcast_to(chances, (self.power.size, chances.shape[1]))
        pairs = zip(self.cumulative, spread, strict=True)
        index = np.stack([np.searchsorted(known, wanted) for known, wanted in pairs])
        seen = self.seen[np.minimum(index, self.seen.size - 1)]
        return np.asarray(np.where(spread < self.below[:, None], low, seen), dtype=np.float64)

    def chance_below(self, values: Floats) -> Floats:
        """The chance of less than values, both of shape (draws, count)."""
        index = np.searchsorted(self.seen, values, side="left")
        padded = np.concatenate([self.below[:, None], self.cumulative], axis=1)
        seen = np.take_along_axis(padded, index, axis=1)
        low = self.below[:, None] * np.minimum(values / self.seen[0], 1) ** self.power[:, None]
        return np.where(values <= self.seen[0], low, seen)


def _tailed(values: Floats, tail: float, draws: int, rng: np.random.Generator) -> Tailed:
    ordered = np.sort(values)
    low = max(1, min(values.size - 1, int(np.ceil(LOW_SHARE * values.size))))
    threshold = ordered[low]
    short = float(np.log(threshold / ordered[:low]).sum())
    weights = rng.dirichlet(np.append(np.ones(values.size), UNSEEN_WEIGHT), draws)
    below = weights[:, :low].sum(axis=1) + weights[:, -1]
    return Tailed(
        seen=ordered[low:],
        power=rng.gamma(1.0 + low, 1 / (tail + short), draws),
        below=below,
        cumulative=np.minimum(below[:, None] + np.cumsum(weights[:, low:-1], axis=1), 1.0),
    )


@dataclass(frozen=True, slots=True)
class Lines:
    """Lines that agree with what was watched; arrays of shape (draws,)."""

    watched: Watched
    levels: Tailed
    dips: Tailed
    hidden_per_second: Floats
    lasts_seconds: Floats
    """How long a level lasts; infinite where it stays."""
    doubt: Floats
    """What every level is multiplied with."""

    @classmethod
    def drawn(cls, watched: Watched, draws: int = DRAWS, seed: int = 0) -> Lines:
        """Draw them; where shows were aired, the more often the better they agree with these.

        Args:
            watched: of two runs or more.
            draws: how many lines.
            seed: equal inputs give equal lines.
        """
        if watched.aired:
            return cls._agreeing(watched, draws, seed)
        rng = np.random.default_rng(seed)
        total = float(watched.seconds.sum())
        levels = _tailed(watched.levels_kbps, LEVEL_TAIL, draws, rng)
        spread = float(np.std(np.log(watched.levels_kbps * watched.ratios)))
        return cls(
            watched=watched,
            levels=levels,
            dips=_tailed(watched.ratios, DIP_TAIL, draws, rng),
            hidden_per_second=rng.gamma(HIDDEN_SHAPE, 1 / (total + HIDDEN_SECONDS), draws),
            lasts_seconds=_lasting(watched, draws, rng),
            doubt=np.exp(rng.standard_normal(draws) * spread),
        )

    @classmethod
    def _agreeing(cls, watched: Watched, draws: int, seed: int) -> Lines:
        """Lines in proportion to how likely each made what was aired: importance resampling.

        Where the shows and the runs hardly agree, the shows are believed only so far that a tenth
        of the lines still counts (tempering).
        """
        many = cls.drawn(replace(watched, aired=()), POOL * draws, seed)
        log_likely = np.zeros(POOL * draws)
        for show in watched.aired:
            late = many.late(np.array([show.kbps]), show.seconds)[:, 0]
            chance = np.clip(late if show.late else 1 - late, LEAST_CHANCE, 1.0)
            log_likely += BELIEVED * np.log(chance)
        weights = _tempered(log_likely)
        steps = (np.arange(draws) + 0.5) / draws
        picks = np.minimum(np.searchsorted(np.cumsum(weights), steps), weights.size - 1)
        return many.picked(picks)

    def first(self, count: int) -> Lines:
        """So many of them."""
        return self.picked(np.arange(min(count, self.doubt.size)))

    def picked(self, picks: Indices) -> Lines:
        """Those at some places."""

        def cut(spread: Tailed) -> Tailed:
            return Tailed(
                spread.seen, spread.power[picks], spread.below[picks], spread.cumulative[picks]
            )

        return Lines(
            self.watched, cut(self.levels), cut(self.dips), self.hidden_per_second[picks],
            self.lasts_seconds[picks], self.doubt[picks],
        )  # fmt: skip

    def spells(self, seconds: float) -> Floats:
        """How many levels a time holds, shape (draws,)."""
        return np.asarray(1 + seconds / self.lasts_seconds, dtype=np.float64)

    def late(self, kbps: Floats, seconds: float) -> Floats:
        """How likely each line has a late frame in a time.

        Never less at more kbit/s, nor in a longer time.

        Args:
            kbps: shape (rates,), of an even stream.
            seconds: how long it is sent.

        Returns:
            Shape (draws, rates).
        """
        levels = self.levels.quantiles(QUANTILES[None, :]) * self.doubt[:, None]
        edges = np.concatenate([[0.0], (QUANTILES[1:] + QUANTILES[:-1]) / 2, [1.0]])
        weights = np.diff(edges)
        spells = self.spells(seconds)
        each = seconds / spells
        bears = each / np.maximum(each - self.watched.allowed_seconds, 1e-3)
        held = np.empty((spells.size, kbps.size))
        for column, rate in enumerate(kbps):
            ratio = rate / np.maximum(levels, 1e-9)
            through = np.where(ratio < bears[:, None], np.exp(self._log_held(ratio, each)), 0.0)
            held[:, column] = np.minimum(through @ weights, 1.0)
        return np.asarray(1 - held ** spells[:, None], dtype=np.float64)

    def _log_held(self, ratio: Floats, seconds: Floats) -> Floats:
        """Log of the chance that no dip under a level is late: the stream is ``ratio`` of it."""
        run = self.watched.mean_seconds
        share = ratio * (run - self.watched.allowed_seconds) / run
        seen = np.log1p(-np.minimum(self.dips.chance_below(share), 1 - 1e-12)) / run
        hidden = self.hidden_per_second[:, None] * np.minimum(share, 1) ** HIDDEN_DEPTH
        return np.asarray((seen - hidden) * seconds[:, None], dtype=np.float64)


def _tempered(log_likely: Floats) -> Floats:
    """Weights that sum to one, as far from even as leaves a tenth of them counting."""
    least, most = 0.0, 1.0
    for _ in range(20):
        weights = np.exp(most * (log_likely - log_likely.max()))
        weights /= weights.sum()
        if 1 / float((weights**2).sum()) >= LEAST_SHARE_LEFT * weights.size:
            break
        most = (least + most) / 2
    return np.asarray(weights, dtype=np.float64)


def _lasting(watched: Watched, draws: int, rng: np.random.Generator) -> Floats:
    """How long a level lasts on each line, by what changed between looks.

    Two looks at one level differ by a little, two at different ones by as much as runs do; which it
    was is not known, so that the likelihood is of the mixture.
    """
    lasts = np.append(LASTS_SECONDS, np.inf)
    each = (1 - STEADY_SHARE) / LASTS_SECONDS.size
    prior = np.append(np.full(LASTS_SECONDS.size, each), STEADY_SHARE)
    if watched.changes.size:
        between = max(float(np.var(np.log(watched.levels_kbps))), 1e-8)
        little = max(float(1.4826 * np.median(np.abs(watched.changes))) ** 2, 1e-8)
        changed = 1 - np.exp(-watched.lags[None, :] / lasts[:, None])
        mixed = changed * _density(watched.changes, 2 * between + little)
        mixed += (1 - changed) * _density(watched.changes, little)
        logs = np.log(mixed + 1e-12).sum(axis=1)
        prior = prior * np.exp(logs - logs.max())
    return np.asarray(rng.choice(lasts, size=draws, p=prior / prior.sum()), dtype=np.float64)


def _density(values: Floats, variance: float) -> Floats:
    """The normal density about zero, but for a constant."""
    return np.asarray(np.exp(-(values**2) / (2 * variance)) / np.sqrt(variance), dtype=np.float64)
