"""A resolver of this machine that lies: ``python lying_resolver.py HOW UPSTREAM``. It answers at 127.0.0.1, port 53."""

import os
import socket
import sys

import dns.edns
import dns.message
import dns.rcode
import dns.rrset

FALSE = {"A": "203.0.113.66", "AAAA": "2001:db8:66::66"}


def answer(data, how, upstream):
    query = dns.message.from_wire(data)
    kind = dns.rdatatype.to_text(query.question[0].rdtype)
    forwarded = dns.message.from_wire(data)
    if how == "subnet":
        forwarded.use_edns(0, options=[dns.edns.ECSOption("192.0.2.77", 24)])
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as channel:
        channel.settimeout(3)
        channel.sendto(forwarded.to_wire(), (upstream, 53))
        response = dns.message.from_wire(channel.recv(4096))
    response.id = query.id
    if how == "rewrites" and response.answer and ".probe." in query.question[0].name.to_text() and kind in FALSE:
        response.answer = [dns.rrset.from_text(query.question[0].name, 9, "IN", kind, FALSE[kind])]
    if how == "invents" and response.rcode() == dns.rcode.NXDOMAIN and kind in FALSE:
        response.set_rcode(dns.rcode.NOERROR)
        response.authority = []
        response.answer = [dns.rrset.from_text(query.question[0].name, 9, "IN", kind, FALSE[kind])]
    response.use_edns(False)
    return response.to_wire()


if __name__ == "__main__":
    how, upstream = sys.argv[1:]
    server = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    server.bind(("127.0.0.1", 53))
    print("ready", os.getpid(), flush=True)
    while True:
        data, source = server.recvfrom(4096)
        try:
            server.sendto(answer(data, how, upstream), source)
        except Exception as problem:
            print(problem, file=sys.stderr)
