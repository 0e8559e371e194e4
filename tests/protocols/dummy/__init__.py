"""A tunnel protocol for tests alone: one folder, registered by its name. No security is claimed for it.

Control datagrams begin with four zero octets and carry JSON; packets go under a label of four octets, sealed by
AES-GCM under a key that both ends make from the password.
"""
