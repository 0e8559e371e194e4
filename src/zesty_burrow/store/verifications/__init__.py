"""The verifications that a store keeps."""
