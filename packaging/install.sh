#!/usr/bin/env bash
# Installs Mandorla for one user: the program in an environment of its own, the desktop's files, man page and completions.
# Usage: install.sh [--remove]. Nothing outside of the user's own folders is touched.
set -euo pipefail
cd "$(dirname "$0")/.."
id=dev.mandorla.Mandorla
data=${XDG_DATA_HOME:-$HOME/.local/share}
bin=$HOME/.local/bin
home=$data/mandorla-program
files=(
  "$bin/mandorla" "$data/applications/$id.desktop" "$data/icons/hicolor/scalable/apps/$id.svg" "$data/mime/packages/$id.xml"
  "$data/metainfo/$id.metainfo.xml" "$data/man/man1/mandorla.1" "$data/bash-completion/completions/mandorla"
  "$data/zsh/site-functions/_mandorla"
)
refresh() {
  command -v update-mime-database >/dev/null && [ -d "$data/mime/packages" ] && update-mime-database "$data/mime" >/dev/null 2>&1 || true
  command -v update-desktop-database >/dev/null && [ -d "$data/applications" ] && update-desktop-database "$data/applications" >/dev/null 2>&1 || true
}
if [ "${1:-}" = "--remove" ]; then
  rm -f "${files[@]}"
  rm -rf "$home"
  refresh
  echo "Removed. Projects, preferences and the logbook are kept."
  exit 0
fi
python=.venv/bin/python
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
echo "Building the wheel"
$python -m pip wheel --quiet --disable-pip-version-check --no-deps --wheel-dir "$work" .
$python packaging/make_files.py "$work"
echo "Installing into $home"
rm -rf "$home"
base=$($python -c 'import sys; print(sys._base_executable)')
"$base" -m venv "$home"
"$home/bin/python" -m pip install --quiet --disable-pip-version-check --no-deps --require-hashes -r packaging/runtime.lock
"$home/bin/python" -m pip install --quiet --disable-pip-version-check --no-deps "$work"/mandorla-*.whl
install -d "$bin" "$data"/{applications,icons/hicolor/scalable/apps,mime/packages,metainfo,man/man1,bash-completion/completions,zsh/site-functions}
ln -sf "$home/bin/mandorla" "$bin/mandorla"
install -m 644 packaging/$id.desktop "$data/applications/"
sed -i "s|^Exec=mandorla|Exec=$bin/mandorla|" "$data/applications/$id.desktop"
install -m 644 src/mandorla/data/icon.svg "$data/icons/hicolor/scalable/apps/$id.svg"
install -m 644 packaging/$id.xml "$data/mime/packages/"
install -m 644 packaging/$id.metainfo.xml "$data/metainfo/"
install -m 644 "$work/mandorla.1" "$data/man/man1/"
install -m 644 "$work/mandorla.bash" "$data/bash-completion/completions/mandorla"
install -m 644 "$work/_mandorla" "$data/zsh/site-functions/"
refresh
"$home/bin/mandorla" doctor --warm >/dev/null || true
echo "Installed: $bin/mandorla (make uninstall removes it)"
case ":$PATH:" in *":$bin:"*) ;; *) echo "$bin is not in PATH: add it, or start Mandorla from the desktop's menu." ;; esac
