// The addresses that a real-time connection reveals (RFC 8825, RFC 8489).
const GATHERING = 4000;

checks.real_time = async (told) => {
  if (!window.RTCPeerConnection) return { real_time: [] };
  const connection = new RTCPeerConnection({ iceServers: [{ urls: `stun:${about.observatory}:${told.stun_port}` }] });
  const revealed = new Set();
  connection.addEventListener("icecandidate", ({ candidate }) => {
    // Some browsers put brackets around an IPv6 address, as in a URL.
    const address = candidate?.address?.replace(/^\[|\]$/g, "");
    if (address && !address.endsWith(".local")) revealed.add(address);
  });
  connection.createDataChannel("check");
  await connection.setLocalDescription(await connection.createOffer());
  await new Promise((done) => {
    connection.addEventListener("icegatheringstatechange", () => { if (connection.iceGatheringState === "complete") done(); });
    setTimeout(done, GATHERING);
  });
  connection.close();
  return { real_time: await Promise.all([...revealed].slice(0, 16).map(async (address) =>
    (await ask(`https://${about.observatory}/v1/address/${address}`)) || { address })) };
};
