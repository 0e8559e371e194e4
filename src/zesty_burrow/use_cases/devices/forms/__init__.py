"""The forms of handing over: a file each, and a line here. A device gets its profile in the first that offers a way."""

from __future__ import annotations

from zesty_burrow.use_cases.devices.forms import archive, bundle, card, link, pickup, ssh
from zesty_burrow.use_cases.devices.forms.form import Form

FORMS: list[Form] = [pickup.FORM, ssh.PUSH, ssh.FILES, link.FORM, card.FORM, archive.FORM, bundle.FORM]
