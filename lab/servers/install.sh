#!/bin/sh
# Installs the Debian packages that the demo and the tests need, if any is
# missing, as root or through sudo.
set -eu
packages="samba samba-ad-dc samba-ad-provision winbind python3-samba samba-dsdb-modules samba-vfs-modules postgresql slapd ldap-utils chromium python3-pysaml2 python3-ldap3 krb5-user curl 389-ds-base libnss3-tools openssl libfaketime"
missing=""
for package in $packages; do
	dpkg-query -W -f '${Status}' "$package" 2>/dev/null | grep -q 'ok installed' || missing="$missing $package"
done
[ -z "$missing" ] && exit 0
as_root=""
if [ "$(id -u)" -ne 0 ]; then
	if ! command -v sudo >/dev/null; then
		echo "These Debian packages are missing, and installing them needs root:$missing" >&2
		exit 1
	fi
	as_root="sudo"
fi
echo "Installing Debian packages:$missing"
# A policy that starts nothing: the lab starts its own servers.
policy=/usr/sbin/policy-rc.d
made=""
if [ ! -e "$policy" ]; then
	printf '#!/bin/sh\nexit 101\n' | $as_root tee "$policy" >/dev/null
	$as_root chmod 755 "$policy"
	made=1
fi
status=0
log=$(mktemp)
$as_root env DEBIAN_FRONTEND=noninteractive sh -c "apt-get update -q && apt-get install -y -q --no-install-recommends $missing" >"$log" 2>&1 || status=$?
[ -n "$made" ] && $as_root rm -f "$policy"
[ "$status" -eq 0 ] || tail -n 20 "$log" >&2
rm -f "$log"
exit "$status"
