"""Fernhollow Web Care, a made-up reseller: a plan, and the folders of its accounts."""

from kettlepost.demo.scaffold import ACCOUNTS, Demo, lay_out, lay_out_tree, name_database, take_package

__all__ = ["ACCOUNTS", "Demo", "lay_out", "lay_out_tree", "name_database", "take_package"]
