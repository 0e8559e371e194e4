"""Printed cards, all in one file."""

from __future__ import annotations

from collections.abc import Sequence

from zesty_burrow.errors import BurrowError
from zesty_burrow.store.devices import HANDED, Device
from zesty_burrow.use_cases.devices.forms.form import Ended, Form, Run, failed_row, problem_of_writing, row_of
from zesty_burrow.use_cases.devices.plan import Plan
from zesty_burrow.use_cases.devices.request import HandOverRequest, HandOverRow


def _offers(device: Device, request: HandOverRequest) -> str:
    return "" if device.runs_program or request.card is None else str(request.card)


def _hand_over(plans: Sequence[Plan], run: Run, ended: Ended) -> None:
    """A card without room for everything is reported as failed, and left out."""
    from zesty_burrow.fleet.cards.card import card_of
    from zesty_burrow.fleet.cards.html import cards_html
    from zesty_burrow.fleet.cards.pdf import cards_pdf

    request, path = run.request, run.request.card
    printed: list[tuple[Plan, HandOverRow]] = []
    cards = []
    for plan in plans:
        if plan.profile is None:
            continue
        kept = {kind: value for kind, (_, value) in plan.credentials.items()}
        card = card_of(plan.device, plan.profile, kept, request.language)
        try:
            cards_pdf([card], "A6")
        except BurrowError as problem:
            ended(plan, failed_row(plan, (problem.slug, str(problem), problem.next_step)))
            continue
        cards.append(card)
        detail = "printed on a card, without its certificate" if card.certificates else "printed on a card"
        printed.append((plan, row_of(plan, HANDED, detail)))
    if cards and path is not None:
        make = cards_pdf if path.suffix.lower() == ".pdf" else cards_html
        unwritten = problem_of_writing(lambda: {path: make(cards, request.paper)}, [path])
        if unwritten is not None:
            printed = [(plan, failed_row(plan, unwritten)) for plan, _ in printed]
    for plan, row in printed:
        ended(plan, row)


FORM = Form("card", _offers, _hand_over, extra="cards", notes_detail=True)
