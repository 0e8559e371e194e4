"""One folder per tunnel protocol: its settings, its sessions (client and gateway), its packet channel."""
