#!/usr/bin/env bash
# Builds dist/mandorla_VERSION_ARCH.deb: the program and every package it needs, from wheels, below /opt/mandorla.
# Usage: deb.sh [--check]: afterwards unpacks it and starts it as an ordinary user, without a display.
set -euo pipefail
cd "$(dirname "$0")/.."
id=dev.mandorla.Mandorla
python=.venv/bin/python
version=$($python -c 'import mandorla; print(mandorla.__version__)')
series=$($python -c 'import sys; print(f"{sys.version_info[0]}.{sys.version_info[1]}")')
arch=$(dpkg --print-architecture)
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
root=$work/root
echo "Collecting wheels"
$python -m pip wheel --quiet --disable-pip-version-check --no-deps --wheel-dir "$work/wheels" .
$python -m pip download --quiet --disable-pip-version-check --no-deps --only-binary :all: --require-hashes -r packaging/runtime.lock \
  -d "$work/wheels" || $python -m pip wheel --quiet --disable-pip-version-check --no-deps --require-hashes -r packaging/runtime.lock -w "$work/wheels"
$python packaging/make_files.py "$work/files"
lib=$root/opt/mandorla/lib
mkdir -p "$lib"
$python -m pip install --quiet --disable-pip-version-check --no-deps --no-index --no-compile --target "$lib" "$work"/wheels/*.whl
rm -rf "$lib/bin"
install -d "$root"/usr/{bin,share/applications,share/icons/hicolor/scalable/apps,share/mime/packages,share/metainfo,share/man/man1} \
  "$root"/usr/share/{bash-completion/completions,zsh/vendor-completions,doc/mandorla} "$root/DEBIAN"
cat >"$root/usr/bin/mandorla" <<START
#!/bin/sh
# MANDORLA_ROOT: where the package was unpacked, when it was not installed
PYTHONPATH="\${MANDORLA_ROOT:-}/opt/mandorla/lib" exec python$series -s -m mandorla "\$@"
START
chmod 755 "$root/usr/bin/mandorla"
install -m 644 packaging/$id.desktop "$root/usr/share/applications/"
install -m 644 src/mandorla/data/icon.svg "$root/usr/share/icons/hicolor/scalable/apps/$id.svg"
install -m 644 packaging/$id.xml "$root/usr/share/mime/packages/"
install -m 644 packaging/$id.metainfo.xml "$root/usr/share/metainfo/"
gzip -9nc "$work/files/mandorla.1" >"$root/usr/share/man/man1/mandorla.1.gz"
install -m 644 "$work/files/mandorla.bash" "$root/usr/share/bash-completion/completions/mandorla"
install -m 644 "$work/files/_mandorla" "$root/usr/share/zsh/vendor-completions/"
install -m 644 LICENSE "$root/usr/share/doc/mandorla/copyright"
$python tools/supply.py --sbom "$root/usr/share/doc/mandorla/sbom.cdx.json"
mkdir -p dist && cp "$root/usr/share/doc/mandorla/sbom.cdx.json" "dist/mandorla_${version}.cdx.json"
size=$(du -sk "$root" | cut -f1)
cat >"$root/DEBIAN/control" <<CONTROL
Package: mandorla
Version: $version
Section: science
Priority: optional
Architecture: $arch
Installed-Size: $size
Depends: python$series, libegl1, libgl1, libxkbcommon-x11-0, libxcb-icccm4, libxcb-keysyms1, libxcb-cursor0, libxcb-image0, libxcb-render-util0, libdbus-1-3, libfontconfig1, libglib2.0-0
Maintainer: The Mandorla founders <founders@mandorla.dev>
Description: predict and prevent warping of large or hot 3D prints
 Thermal design of heated beds and chambers, warp prediction and tuning for
 large or hot 3D-printed parts, on the command line and in a window.
CONTROL
mkdir -p dist
dpkg-deb --build --root-owner-group -Zxz -z1 "$root" "dist/mandorla_${version}_${arch}.deb" >/dev/null
echo "Built dist/mandorla_${version}_${arch}.deb ($(du -h "dist/mandorla_${version}_${arch}.deb" | cut -f1))"
[ "${1:-}" = "--check" ] || exit 0

echo "Unpacking and starting it unprivileged"
there=$work/unpacked
dpkg-deb -x "dist/mandorla_${version}_${arch}.deb" "$there"
chmod 755 "$work"
home=$(mktemp -d)
as_user=(env -i PATH="$PATH" HOME="$home" MANDORLA_HOME="$home" MANDORLA_ROOT="$there" QT_QPA_PLATFORM=offscreen NUMBA_CACHE_DIR="$home/numba")
if [ "$(id -u)" -eq 0 ]; then chown nobody "$home"; as_user=(runuser -u nobody -- "${as_user[@]}"); fi
program=$there/usr/bin/mandorla
"${as_user[@]}" "$program" --version
"${as_user[@]}" "$program" doctor | grep -v "^  good" || true
demo=$there/opt/mandorla/lib/mandorla/data/demo/boathouse.mandorla
status=0
"${as_user[@]}" "$program" warp "$demo" --no-check --json >"$work/warp.json" || status=$?
[ "$status" -le 1 ] || { echo "warp ended with $status" >&2; exit 1; }
$python -c 'import json, sys; print(json.load(open(sys.argv[1]))["sentence"])' "$work/warp.json"
# the window lives for some seconds without a display
status=0
timeout 20 "${as_user[@]}" "$program" --demo || status=$?
[ "$status" -eq 124 ] || { echo "the window ended with $status" >&2; exit 1; }
rm -rf "$home"
echo "It starts"
