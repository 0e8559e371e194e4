"""Results as text for people, by area: tables without lines, words before colours."""
