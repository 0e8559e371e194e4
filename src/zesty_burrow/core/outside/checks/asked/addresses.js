// The public addresses, by each address family.
checks.addresses = async (told) => {
  const family = (host) => (host ? ask(`https://${host}/v1/address`) : null);
  const [ipv4, ipv6] = await Promise.all([family(told.ipv4_host), family(told.ipv6_host)]);
  return { ipv4, ipv6 };
};
