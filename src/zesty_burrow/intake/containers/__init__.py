"""What carries files: archives, compressed files, mails, and documents with text, tables and pictures."""
