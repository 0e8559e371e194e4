"""Findings: something noticed about a kit, profile, certificate, machine or tunnel."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from zesty_burrow.errors import printable


class Severity(StrEnum):
    """How much a finding matters."""

    NOTE = "note"
    WARNING = "warning"
    SERIOUS = "serious"


@dataclass(frozen=True, slots=True)
class Code:
    """A stable code with what stands behind it; ``explain`` prints it."""

    slug: str
    severity: Severity
    title: str
    why: str
    remedy: str
    reference: str = ""


@dataclass(frozen=True, slots=True)
class Finding:
    """One occurrence: ``subject`` names the thing, ``detail`` what was seen."""

    code: Code
    subject: str
    detail: str = ""

    @property
    def severity(self) -> Severity:
        """The code's severity."""
        return self.code.severity


_N, _W, _S = Severity.NOTE, Severity.WARNING, Severity.SERIOUS

_CODES = (
    # kits
    Code("kit-read-me", _N, "A read-me was recognised and left out.",
         "It is meant for people; nothing in it was taken as settings.", "Read it yourself, it may hold news."),
    Code("kit-junk", _N, "A file that is nothing we know was left out.",
         "Archives often carry files of desktop programs or other systems.",
         "Nothing to do, unless you expected settings in it: then ask the provider."),
    Code("kit-unreadable", _W, "A file could not be read and was left out.",
         "It looks like something we know, but breaks its own format.", "Ask the provider for a complete copy."),
    Code("kit-same-content", _N, "A file holds the same as another one and was taken once.",
         "Providers repeat files under several names.", "Nothing to do."),
    Code("kit-plaintext-password", _W, "The kit holds a password in plain text.",
         "Whoever gets the kit can sign in as you. It is sealed here, but the kit itself is not.",
         "Delete the kit, or keep it where only you can read it."),
    Code("kit-world-readable", _W, "A file with secrets can be read by every user of this machine.",
         "Its mode gives reading rights to group or others.", "chmod 600 the file, then change the password."),
    Code("kit-no-credentials", _N, "No credentials came with the kit.",
         "The profiles need a name and a password before they can connect.",
         "Import the two-line credentials file, with --provider to say whose it is."),
    Code("credentials-paste-slip", _W, "The credentials look like a paste slip.",
         "A space at an end or a look-alike character is often not part of the password; it was kept as it is.",
         "Compare with the provider's page and import again if it is a slip."),
    Code("shared-key-short", _W, "A shared key is short.",
         "Whoever sees one sign-in can try out all short keys, and then read everything.",
         "Agree on a random key of 32 octets or more.", "RFC 7296 §2.15"),
    Code("kit-certificate-unused", _N, "A certificate that no profile names was left out.",
         "Nothing refers to it, so nothing would use it.",
         "If it is the gateway's authority, name it under trust.authorities in the profile."),
    Code("kit-credentials-incomplete", _W, "A credentials file does not have its two lines.",
         "The first line is the name, the second the password.", "Complete the file and import it again."),
    Code("key-weak", _S, "The private key is too weak.",
         "A key of that size can be worked out from its public half.",
         "Ask the provider for a certificate with a current key.", "RFC 8247 §3.2, §4"),
    Code("key-unprotected", _W, "A private key came without a passphrase.",
         "Whoever gets the file can sign in as you. It is sealed here, but the file itself is not.",
         "Delete the file, or keep it where only you can read it."),
    Code("key-mismatch", _S, "A private key fits none of the certificates.",
         "The certificate's public key is not the other half of it, so no signature made with it would be accepted.",
         "Ask the provider which key belongs to the certificate; it may be that of an older one.", "RFC 5280 §4.1.2.7"),
    Code("key-without-certificate", _W, "A private key came without its certificate and was left out.",
         "A gateway asks for a certificate that fits the key.",
         "Ask the provider for the certificate and import both together."),
    Code("kit-locked", _W, "A file is under a passphrase and was left out.",
         "There is no terminal to ask on, and no file was named that holds the passphrase.",
         "Name a file that holds it: --kit-passphrase-file FILE"),
    Code("kit-passphrase", _S, "A passphrase does not open the file.",
         "It is not the one that protects it, or the file is damaged.",
         "Ask whoever made the file for its passphrase."),
    Code("kit-several-credentials", _W, "Several different credentials came with the kit; one was taken.",
         "Which one is meant cannot be told.", "Import the right one by itself, with --provider or --profile."),
    Code("revocation-list-unusable", _W, "A revocation list cannot be relied on and was left out.",
         "It is out of date, or no authority of the kit has signed it.",
         "Ask the provider for its current list.", "RFC 5280 §6.3"),
    Code("gateway-certificate", _N, "The gateway's own certificate was checked and left out.",
         "The gateway sends it itself; only its authority is needed here.", "Nothing to do."),
    Code("place-from-name", _N, "Country and city were read from the file's name.",
         "The settings themselves do not say where the exit is.", "Correct them in the profile if they are wrong."),
    Code("name-from-place", _N, "The settings have no name; one was made from the place.",
         "A name is needed to speak of a profile.", "`zesty rename` changes it."),
    Code("code-too-large", _S, "It does not fit into QR codes.",
         "Sixteen codes are the most that anybody would scan.", "Export it as a file.", "ISO/IEC 18004"),
    Code("code-incomplete", _W, "A QR code is one of several, and not all of them are there.",
         "A text that is too long for one code is split over up to 16.",
         "Take a picture of each of them, and import all the pictures together."),
    Code("protocol-retired", _W, "Settings for a retired protocol were left out.",
         "IKEv1 (and L2TP over it) was retired by RFC 9395; PPTP's sign-in and cipher are broken.",
         "Ask the provider for IKEv2 settings.", "RFC 9395 §3, RFC 3079 §1"),
    Code("protocol-unavailable", _W, "Settings for a protocol that this program does not speak were left out.",
         "It speaks IKEv2 with ESP in UDP.", "Ask the provider for IKEv2 settings."),
    Code("for-everybody", _N, "The sheet asks for a tunnel that others on this machine may use.",
         "Profiles go into your own store unless you say otherwise.",
         "Import with --for machine, as root."),
    Code("model-not-mapped", _N, "A part of the RFC 9061 data has no place in a profile and was left out.",
         "The YANG model also holds what only gateways need.", "Nothing to do.", "RFC 9061 §5.2"),
    Code("sheet-not-understood", _N, "A label on the sheet was not understood.",
         "Nothing was taken from that line.", "See docs/kits.md for the words that are known, or fill it in yourself."),
    Code("authority-attached", _N, "The kit's authority certificate was put into a profile that names none.",
         "Certificates are matched by what they are, not by their file's name.", "Nothing to do."),
    Code("archive-path", _S, "The archive holds a member that points outside of it.",
         "Unpacked carelessly, it would write where the sender likes. Nothing was taken from the archive.",
         "Do not use this archive; ask the provider, over another channel, whether it is theirs."),
    Code("archive-link", _S, "The archive holds a link or a device.",
         "A link may point to any file of this machine. Nothing was taken from the archive.",
         "Ask the provider for an archive of plain files."),
    Code("archive-duplicate", _S, "The archive holds two members of the same name.",
         "Which one is meant cannot be told; programs differ, and attackers use that. Nothing was taken.",
         "Ask the provider for a clean archive."),
    Code("archive-bomb", _S, "The archive would unpack to more than we agree to read.",
         "A small archive can unpack to gigabytes. Nothing was taken from it.",
         "Take out what does not belong in it, or import a part of it as a folder."),
    Code("archive-encrypted", _S, "The archive is protected by a password.",
         "Its members cannot be read.", "Unpack it with its password and import the folder."),
    Code("archive-damaged", _S, "The archive is damaged.",
         "It was cut off or changed on its way. Nothing was taken from it.", "Fetch it again and compare its size."),
    Code("kit-empty", _S, "There is nothing in it that can be taken.",
         "No profile and no credentials were recognised.", "See what `zesty inspect` says of each file."),
    # profiles
    Code("profile-unknown-key", _N, "The profile has a key that we do not know.",
         "It was kept and has no effect.", "Check its spelling in docs/profile.md."),
    Code("profile-same", _N, "This profile is there already, with the same content.",
         "Importing twice changes nothing.", "Nothing to do."),
    Code("profile-clash", _W, "A profile of this name for another gateway or provider is there already.",
         "Nothing is overwritten without being asked.",
         "Import with --both to take it under another name, or with --replace in place of the old one."),
    Code("profile-newer", _W, "The kit holds a newer edition of a profile that is there already.",
         "Nothing is overwritten without being asked.", "Look at the difference, then import with --replace."),
    Code("profile-changed", _W, "The kit holds another edition of a profile that is there already.",
         "It is for the same gateway of the same provider, and nothing tells which of the two is newer.",
         "Look at the difference, then import with --replace, --both or --keep."),
    Code("profile-older", _N, "The kit holds an older edition of a profile that is there already.",
         "The newer one stays.", "Nothing to do; --replace would take the older one."),
    Code("profile-replaced", _N, "A profile was replaced by another of its name.",
         "You chose so.", "Nothing to do; the old one is in the kit that it came from."),
    Code("profile-both", _N, "A profile was taken under another name, beside the one that is there.",
         "You chose so.", "`zesty rename` changes its name."),
    Code("credentials-replaced", _N, "Credentials were replaced by others for the same use.",
         "The kit brought others than those that were kept.", "Nothing to do; `zesty credentials try` tries them."),
    Code("credentials-kept", _N, "The kit's credentials differ from those that are kept; the kept ones stay.",
         "--keep asked for it.", "Import without --keep to take the kit's."),
    Code("profile-authority-missing", _S, "The profile has no authority certificate to prove the gateway with.",
         "Without it nobody can tell the gateway from an impostor, so it will not connect.",
         "Put the authority's certificate beside the profile, under the name that it uses, and import again."),
    Code("profile-authority-leaf", _W, "A certificate that stands as an authority may not issue certificates.",
         "It can prove a gateway only if the gateway shows this very certificate.",
         "Ask the provider for the certificate of its authority.", "RFC 5280 §4.2.1.9"),
    Code("profile-renamed", _N, "The profile's name was made unique.",
         "Two profiles in the kit share a name.", "Rename one of them if you like."),
    Code("algorithm-weak", _W, "The profile offers an algorithm that the RFCs advise against.",
         "It may be broken in reach of today's attackers.", "Ask the provider for current algorithms.",
         "RFC 8247 §2, RFC 8221 §5"),
    Code("algorithm-unavailable", _W, "The profile offers an algorithm that this program does not implement.",
         "It is left out of what is offered to the gateway.", "Nothing to do as long as others are left."),
    Code("ipv6-outside", _W, "The profile leaves IPv6 outside the tunnel.",
         "Whatever has an IPv6 address is reached in the clear, from your own address.",
         'Set traffic.ipv6 to "tunnel" or "block".'),
    # certificates
    Code("certificate-expired", _S, "The certificate has expired.",
         "After its end date nobody vouches for the key any more.", "Get a current certificate from the provider.",
         "RFC 5280 §4.1.2.5, §6.1.3"),
    Code("certificate-not-yet-valid", _S, "The certificate is not valid yet.",
         "Its start date lies ahead, or this machine's clock is wrong.", "Check the clock; else wait for that date.",
         "RFC 5280 §4.1.2.5, §6.1.3"),
    Code("certificate-expires-soon", _W, "The certificate expires within 30 days.",
         "Connections will fail from that day on.", "Ask the provider for the next one now.", "RFC 5280 §4.1.2.5"),
    Code("certificate-wrong-name", _S, "The certificate does not hold the gateway's name.",
         "Anyone may have a good certificate for another name; this is what an impostor would show.",
         "Do not sign in. Compare the gateway's name in the profile with the provider's page.",
         "RFC 7296 §4, RFC 4945 §3.1"),
    Code("certificate-untrusted", _S, "No trusted authority vouches for the certificate.",
         "The path from the certificate does not end at an authority that the profile trusts.",
         "Do not sign in. Get the provider's authority certificate over another channel.", "RFC 5280 §6.1"),
    Code("certificate-usage", _S, "The certificate is not meant for this use.",
         "Its key usage does not allow signing as a gateway, or an authority may not issue certificates.",
         "Tell the provider: the gateway's certificate was issued wrongly.",
         "RFC 4945 §5.1.3.2, §5.1.3.12; RFC 5280 §4.2.1.9"),
    Code("certificate-revoked", _S, "The authority has revoked the certificate.",
         "Its key may be in somebody else's hands.", "Do not sign in there; ask the provider for a current one.",
         "RFC 5280 §5, §6.3"),
    Code("certificate-status-unknown", _W, "Nobody says whether the certificate was revoked.",
         "A list was asked for, and none can be relied on.", "Ask the provider for its current revocation list.",
         "RFC 5280 §6.3"),
    Code("certificate-weak", _S, "The certificate's key or signature is too weak.",
         "RSA below 2048 bits and SHA-1 or MD5 signatures can be forged.",
         "Ask the provider for a certificate with a current key and signature.", "RFC 8247 §3.2, §4"),
    Code("certificate-signature", _S, "The gateway's signature is wrong or made with an outdated method.",
         "It could not show that it holds the key of the certificate.",
         "Do not sign in. If it persists, tell the provider.", "RFC 7296 §2.15, RFC 7427, RFC 8247 §3"),
    Code("shared-key-wrong", _S, "The gateway does not know the pre-shared key.",
         "Its AUTH payload was made with another key; the key here may be mistyped, or it is an impostor.",
         "Compare the key with the gateway's administrator, over another channel.", "RFC 7296 §2.15"),
    Code("raw-key-wrong", _S, "The gateway did not prove itself with the raw public key that the profile names.",
         "Only the holder of that key is the gateway.", "Do not sign in; ask for the gateway's current key.",
         "RFC 7670 §3"),
    Code("certificate-missing", _S, "The gateway sent no certificate.",
         "It cannot prove who it is.", "Do not sign in there; tell the provider.", "RFC 7296 §2.16"),
    Code("certificate-identity", _S, "The gateway calls itself by another identity than the profile says.",
         "Its IDr payload does not hold the gateway identity of the profile.",
         "Do not sign in. Compare the identity in the profile with the provider's page.", "RFC 7296 §3.5, §4"),
    # verification
    Code("address-unchanged", _S, "The public address is the same as before the tunnel.",
         "Traffic leaves in the clear, from your own address.",
         "Disconnect, run `zesty restore`, connect again; check the profile's traffic.networks."),
    Code("address-changed", _N, "The public address is not the one from before.", "Traffic leaves elsewhere.",
         "Nothing to do."),
    Code("ipv6-leak", _S, "IPv6 goes past the tunnel.",
         "Sites that have IPv6 see your own address and operator.",
         'Set traffic.ipv6 to "tunnel" or "block" in the profile and connect again.', "RFC 7359 §4"),
    Code("ipv6-absent", _N, "There is no IPv6 to the outside.", "Nothing can leak that way.", "Nothing to do."),
    Code("exit-elsewhere", _S, "The exit is in another country than the profile promises.",
         "Laws and content follow the real place, not the promised one.",
         "Choose another gateway, and ask the provider about this one."),
    Code("exit-as-promised", _N, "The exit is in the country that the profile promises.", "", "Nothing to do."),
    Code("exit-place-unknown", _W, "Nobody says where the exit is.",
         "The observatory's geofeed has no entry for the address.", "Ask the provider for its geofeed.", "RFC 8805"),
    Code("dns-leak", _S, "A resolver from before the tunnel still sees the names that you look up.",
         "Its operator learns every name that you use, though the traffic goes through the tunnel.",
         "Set traffic.name_servers in the profile to resolvers inside the tunnel, or choose another gateway."),
    Code("dns-inside", _N, "Only resolvers on the tunnel's side asked for the test's names.", "", "Nothing to do."),
    Code("dns-silent", _W, "No resolver asked for the test's names.",
         "Name resolution does not work, or somebody answers in the observatory's place.",
         "Check the name servers that `zesty status` shows."),
    Code("dns-foreign", _W, "A resolver of a third party asked for the test's names.",
         "It belongs neither to the exit's operator nor to the one from before.",
         "Find out whose it is; set traffic.name_servers if you do not want it."),
    Code("real-time-leak", _S, "A real-time application would reveal your own address.",
         "STUN sees the address from before the tunnel.", "Disconnect, `zesty restore`, connect again.", "RFC 8489"),
    Code("no-baseline", _W, "There is no observation from before the tunnel to compare with.",
         "Without it nobody can tell what would be a leak.", "Disconnect, run `zesty verify --before`, connect again."),
    Code("no-tunnel", _W, "No tunnel is up.", "There is nothing to verify.", "Connect first: `zesty connect NAME`."),
    Code("exit-not-seen", _N, "The exit was not looked at.",
         "The gateway carries only networks of its own, or no observatory was asked.",
         "Nothing to do where that is what the profile is for."),
    Code("observatory-silent", _W, "The observatory did not answer.",
         "Nothing could be observed from the outside.", "Check --observatory and that it is running."),
    # machine
    Code("left-over", _W, "An earlier tunnel ended without putting this machine back.",
         "It crashed or was killed; its routing keeps everything closed until it is put back.", "Run `zesty restore`."),
    # errors that are more precise than their kind
    Code("strict", _S, "Nothing was taken, because of --strict.",
         "The kit has findings that are warnings or worse.", "Mend what they name, or import without --strict."),
    Code("gateway-unresolved", _S, "The gateway's name cannot be resolved.",
         "The resolver knows no address for it, or does not answer.",
         "Check that name resolution works here, and the gateway's name in the profile."),
    Code("gateway-ended", _S, "The gateway ended the tunnel.",
         "It was restarted, or it ended this account's tunnels. This machine was put back.", "Connect again."),
    Code("portal-not-proven", _S, "The portal did not prove who it is.",
         "Its certificate is for another name, has expired, or comes from an authority that is not trusted. Nothing "
         "was sent to it.", "Do not sign in there; --authority names the provider's own authority.", "RFC 9110 §4.3.4"),
    Code("portal-refused", _S, "The portal refused account or password.",
         "These are those of the provider's page, not those for manual set-up.", "Check both; look for a stray space."),
    Code("portal-not-allowed", _S, "The portal does not let this account in.",
         "Account and password may be right; somebody has not allowed this use.", "Ask whom it names."),
    Code("portal-unreachable", _S, "The portal cannot be reached.",
         "Its name does not resolve, or nobody answers.", "Check address and network."),
    Code("portal-malformed", _S, "What answers there is no portal that we can speak with.",
         "Its answer does not follow docs/portal.md.", "Check the address."),
    Code("portal-broken-off", _S, "A download did not come whole.",
         "It broke off each time. Nothing was taken.", "Try again later."),
    Code("answers-missing", _S, "A set-up is not complete.",
         "There is no terminal to ask on, and not every answer was given.", "Give what is named as an option."),
    Code("already-up", _S, "A tunnel is up already.",
         "There is one tunnel at a time.", "End it first: `zesty disconnect`."),
    Code("not-put-back", _S, "This machine could not be put back wholly.",
         "A right is missing, or somebody else is in the way. What could be undone was undone.",
         "Mend what is named, then run `zesty restore` again."),
    Code("tunnel-device-closed", _S, "The tunnel device may not be opened.",
         "/dev/net/tun is closed to this user on this machine.",
         "Have root allow it: chmod 0666 /dev/net/tun; or run the command as root."),
    Code("no-lab", _S, "No lab is running.", "The command needs one.", "Start one: `zesty lab start`."),
    Code("lab-running", _S, "A lab is running already.", "There is one lab to a home.", "`zesty lab stop` ends it."),
    Code("lab-not-started", _S, "The lab could not be started.",
         "It needs network and mount namespaces, and without root user namespaces.", "docs/lab.md says what to allow."),
    Code("system", _S, "The system refused something.", "A file, a right or space is missing.",
         "Check what is named: rights, disk space, paths."),
)  # fmt: skip

CODES: dict[str, Code] = {entry.slug: entry for entry in _CODES}


def finding(slug: str, subject: str, detail: str = "") -> Finding:
    """A finding with the code of that slug."""
    return Finding(CODES[slug], printable(subject), printable(detail))
