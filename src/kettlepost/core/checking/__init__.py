"""Checking a plan: every rule is asked, its ways out are tried, and what is accepted is left out."""

from kettlepost.core.checking.comparison import AccountDiff, compared
from kettlepost.core.checking.evaluation import Checked, check, check_account, known_by_plan, settle
from kettlepost.core.checking.gathering import gathered

__all__ = ["AccountDiff", "Checked", "check", "check_account", "compared", "gathered", "known_by_plan", "settle"]
