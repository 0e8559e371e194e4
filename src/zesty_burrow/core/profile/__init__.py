"""The tunnel profile, format 1: model, text form, checks. docs/profile.md describes it for people."""
