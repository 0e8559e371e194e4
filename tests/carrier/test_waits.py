"""How long a lost tunnel waits."""

from zesty_burrow.carrier.supervision.waits import Waits
from zesty_burrow.errors import GatewayNotProven, GatewayUnreachable, SignInRefused


def test_waits():
    """Doubled up to a minute, a second again after it was up; a quarter of an hour after a refused sign-in."""
    waits, silent = Waits(), GatewayUnreachable("silence")
    assert [waits.after(silent, came_back=False) for _ in range(8)] == [2, 4, 8, 16, 32, 60, 60, 60]
    assert waits.after(silent, came_back=True) == 1
    assert waits.after(GatewayNotProven("an impostor"), came_back=False) == 2
    assert waits.after(SignInRefused("no"), came_back=False) == 900
    assert waits.after(silent, came_back=False) == 8
