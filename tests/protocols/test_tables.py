"""The tables of states: what each must have, whichever protocol it is."""

from __future__ import annotations

import pytest

from zesty_burrow.carrier.supervision import states as supervisor
from zesty_burrow.errors import ProgramFault
from zesty_burrow.protocols.connect_ip import table as connect_ip
from zesty_burrow.protocols.l2tp_ipsec import table as l2tp_ipsec
from zesty_burrow.protocols.pptp import table as pptp
from zesty_burrow.protocols.states import StateTable

TABLES = {
    "connect-ip": (connect_ip.State, connect_ip.Signal, connect_ip.TRANSITIONS, connect_ip.State.IDLE),
    "pptp": (pptp.State, pptp.Signal, pptp.TRANSITIONS, pptp.State.IDLE),
    "l2tp-ipsec": (l2tp_ipsec.State, l2tp_ipsec.Signal, l2tp_ipsec.TRANSITIONS, l2tp_ipsec.State.IDLE),
    "supervisor": (
        supervisor.TunnelState,
        supervisor.TunnelSignal,
        supervisor.TRANSITIONS,
        supervisor.TunnelState.DOWN,
    ),
}


@pytest.mark.parametrize("name", TABLES)
def test_a_table(name):
    """Every state can be reached from the first one and has a way to the last; every signal means something."""
    states, signals, table, first = TABLES[name]
    reached, ahead = {first}, [first]
    while ahead:
        here = ahead.pop()
        for (state, _), after in table.items():
            if state is here and after not in reached:
                reached.add(after)
                ahead.append(after)
    assert reached == set(states)
    assert {signal for _, signal in table} == set(signals)
    ends = {
        state
        for state in states
        if not any(before is state and after is not state for (before, _), after in table.items())
    }
    assert len(ends) <= 1


@pytest.mark.parametrize("name", TABLES)
def test_every_state_crossed_with_every_signal(name):
    """What is in the table is followed; anything else is a fault, and changes nothing."""
    states, signals, table, _ = TABLES[name]
    for state in states:
        for signal in signals:
            machine = StateTable(table, state)
            if machine.allows(signal):
                assert machine.follow(signal) is table[state, signal] is machine.state
            else:
                with pytest.raises(ProgramFault, match="not possible"):
                    machine.follow(signal)
                assert machine.state is state
