"""Not there yet."""

from argparse import Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.intake.kit import Neighbour
from zesty_burrow.intake.member import Member


def fetch_members(name: str, args: Namespace, context: Context) -> tuple[str, list[Member], Neighbour]:
    raise NotImplementedError
