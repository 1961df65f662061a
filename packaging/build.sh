#!/bin/sh
# Builds the Debian packages of service and agent, and the agent for Windows, into a folder.
# RELEASE_KEY names the file of the key that signs the agents for those that take it from the service.
# Packages are made by dpkg-deb, Debian's own program; two builds of the same sources are alike.
set -eu
cd "$(dirname "$0")/.."
out=${1:-var/packages}
version=${VERSION:-$(sed -n 's/^var Number = "\(.*\)"$/\1/p' core/version/version.go)}
arch=$(dpkg --print-architecture)
SOURCE_DATE_EPOCH=$(git log -1 --format=%ct 2>/dev/null || echo 1700000000)
export SOURCE_DATE_EPOCH
link="-s -w -X kambrel.example/kambrel/core/version.Number=$version"
mkdir -p "$out"
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT

# control fills the package's own files in and builds it.
package() {
	name=$1 from=packaging/$2 root=$work/$1
	mkdir -p "$root/DEBIAN" "$root/usr/share/doc/$name"
	sed -e "s/@VERSION@/$version/" -e "s/@ARCH@/$arch/" "$from/control" > "$root/DEBIAN/control"
	for script in postinst prerm postrm; do install -m 0755 "$from/$script" "$root/DEBIAN/$script"; done
	install -D -m 0644 "$from/$name.service" "$root/lib/systemd/system/$name.service"
	gzip -9n < docs/operators-guide.md > "$root/usr/share/doc/$name/operators-guide.md.gz"
	(cd "$root" && find usr lib -type f -exec md5sum {} +) | sort -k 2 > "$root/DEBIAN/md5sums"
	dpkg-deb --root-owner-group --build -Z"${COMPRESS:-xz}" "$root" "$out/${name}_${version}_$arch.deb" > /dev/null
	echo "$out/${name}_${version}_$arch.deb"
}

service=$work/kambrel
mkdir -p "$service/usr/bin" "$service/etc/kambrel" "$service/DEBIAN"
CGO_ENABLED=0 go build -trimpath -ldflags="$link" -o "$service/usr/bin/kambrel" ./cmd/kambrel
go run ./packaging/manual "$service"
find "$service/usr/share/man" -name '*.1' -exec gzip -9n {} +
install -m 0640 docs/service.yaml "$service/etc/kambrel/service.yaml"
echo /etc/kambrel/service.yaml > "$service/DEBIAN/conffiles"
package kambrel service

agent=$work/kambrel-agent
mkdir -p "$agent/usr/lib/kambrel-agent" "$agent/usr/share/doc/kambrel-agent"
CGO_ENABLED=0 go build -trimpath -ldflags="$link" -o "$agent/usr/lib/kambrel-agent/kambrel" ./cmd/kambrel-agent
install -m 0644 docs/agent.yaml "$agent/usr/share/doc/kambrel-agent/agent.yaml"
package kambrel-agent agent

[ -z "${ONLY_DEBIAN:-}" ] || exit 0
# Each is one file that needs nothing else, for hosts without these packages.
CGO_ENABLED=0 GOOS=windows GOARCH=amd64 go build -trimpath -ldflags="$link" -o "$out/kambrel-agent_${version}_windows_amd64.exe" ./cmd/kambrel-agent
cp "$agent/usr/lib/kambrel-agent/kambrel" "$out/kambrel-agent_${version}_linux_$arch"
ls "$out"/kambrel-agent_"${version}"_windows_amd64.exe "$out/kambrel-agent_${version}_linux_$arch"
# Signed, both go to the agents that trust the key: 'kambrel agent release add'.
[ -n "${RELEASE_KEY:-}" ] || exit 0
go run ./cmd/kambrel agent release sign --key "$RELEASE_KEY" --version "$version" \
	"linux-$arch=$out/kambrel-agent_${version}_linux_$arch" "windows-amd64=$out/kambrel-agent_${version}_windows_amd64.exe" \
	--out "$out/kambrel-agent_$version.jws"
