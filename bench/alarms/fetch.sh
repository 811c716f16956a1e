#!/bin/sh
# Fetches the pairs of histories.txt into a folder, and prints their folders for
#   go run ./bench/alarms $(sh bench/alarms/fetch.sh FOLDER)
set -eu
into=${1:?usage: fetch.sh FOLDER [LIST]}
list=${2:-$(dirname "$0")/histories.txt}
mkdir -p "$into"
cd "$into" && into=$PWD && cd - >/dev/null
[ -f "$into/go.mod" ] || printf 'module histories\n' > "$into/go.mod"

version() { # registry package version
  case $1 in
  go) (cd "$into" && go mod download -json "$2@$3" | sed -n 's/^\t"Dir": "\(.*\)",$/\1/p') ;;
  npm)
    dir="$into/$(echo "$2" | tr / -)-$3"
    if [ ! -d "$dir" ]; then
      mkdir -p "$dir.part"
      (cd "$dir.part" && tar -xzf "$(npm pack --silent "$2@$3")" --strip-components=1 && rm -- *.tgz)
      mv "$dir.part" "$dir"
    fi
    echo "$dir" ;;
  *) echo "fetch.sh: no registry is called $1" >&2; exit 1 ;;
  esac
}

grep -v '^#' "$list" | while read -r registry package old new; do
  echo "$(version "$registry" "$package" "$old") $(version "$registry" "$package" "$new")"
done
