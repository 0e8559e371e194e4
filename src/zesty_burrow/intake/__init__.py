"""Whatever a provider hands over becomes profiles, credentials and findings. Octets and names in, values out."""
