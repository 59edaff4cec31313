#!/usr/bin/env bash
# Builds the packages of this system twice, compares them, and installs and removes them in
# clean trees.
set -euo pipefail
cd "$(dirname "$0")"
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
arch=$(go env GOARCH)

go run . -only "linux/$arch" -out "$work/one"
TZ=Asia/Tokyo go run . -only "linux/$arch" -out "$work/two"
diff "$work/one/SHA256SUMS" "$work/two/SHA256SUMS"
(cd "$work/one" && sha256sum --quiet -c SHA256SUMS)

# installed checks a tree that a package was installed in.
installed() {
  "$1/usr/bin/mintbatch" --version | grep -q '^mintbatch 0.1.0 '
  for need in man/man1/mintbatch-mint.1.gz bash-completion/completions/mintbatch zsh/vendor-completions/_mintbatch \
    fish/vendor_completions.d/mintbatch.fish doc/mintbatch/LICENCES doc/mintbatch/docs/commands.md; do
    [ -s "$1/usr/share/$need" ] || { echo "$need is missing"; exit 1; }
  done
  [ -s "$1/usr/lib/systemd/system/mintbatch-sweep@.timer" ]
  [ -s "$1/usr/lib/systemd/system/mintbatch-intake@.service" ]
}

# removed checks that nothing of a package is left.
removed() {
  left=$(find "$1/usr" -name '*mintbatch*' 2>/dev/null || true)
  [ -z "$left" ] || { echo "left behind: $left"; exit 1; }
}

tree=$work/deb
mkdir -p "$tree/var/lib/dpkg/info" "$tree/var/lib/dpkg/updates"
touch "$tree/var/lib/dpkg/status" "$tree/var/lib/dpkg/available"
dpkg --root="$tree" --force-not-root --log=/dev/null -i "$work"/one/*.deb >/dev/null
installed "$tree"
dpkg --root="$tree" --force-not-root --log=/dev/null -P mintbatch >/dev/null
removed "$tree"

if command -v rpm >/dev/null; then
  tree=$work/rpm
  mkdir -p "$tree"
  rpm --root "$tree" --dbpath /var/lib/rpm --nosignature -i "$work"/one/*.rpm
  installed "$tree"
  rpm --root "$tree" --dbpath /var/lib/rpm -e mintbatch
  removed "$tree"
else
  echo "there is no rpm: the rpm was built and not installed"
fi

mkdir "$work/tar"
tar -C "$work/tar" -xzf "$work"/one/*.tar.gz
"$work"/tar/*/mintbatch help >/dev/null
for page in "$work"/tar/*/man/*.1; do
  command -v man >/dev/null || break
  said=$(man --warnings -E UTF-8 -l "$page" 2>&1 >/dev/null)
  [ -z "$said" ] || { echo "$page: $said"; exit 1; }
done
units=$work/units
mkdir "$units"
for unit in systemd/*@*; do
  cp "$unit" "$units/$(basename "${unit/@./@root.}")"
done
sed -i "s#/usr/bin/mintbatch#$(echo "$work"/tar/*/mintbatch)#" "$units"/*.service
if command -v systemd-analyze >/dev/null; then
  systemd-analyze verify --man=no "$units"/*
  systemd-analyze security --offline=yes --threshold=25 "$units/mintbatch-sweep@root.service" | tail -n 1
  systemd-analyze security --offline=yes --threshold=25 "$units/mintbatch-intake@root.service" | tail -n 1
fi
python3 -c 'import json, sys; b = json.load(open(sys.argv[1])); assert b["bomFormat"] == "CycloneDX" and len(b["components"]) > 20' "$work"/one/*.cdx.json
echo "the packages are the same twice, and are installed and removed without a trace"
