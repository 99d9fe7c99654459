#!/usr/bin/env bash
# Writes a NuGet package again, so that the same content has the same bytes: names in order, one time, no random name within.
set -euo pipefail
folder=$(mktemp -d)
trap 'rm -rf "$folder"' EXIT
unzip -q "$1" -d "$folder"
properties=$(find "$folder/package" -name '*.psmdcp')
mv "$properties" "$(dirname "$properties")/core.psmdcp"
sed -i "s/$(basename "$properties" .psmdcp)/core/; s/Id=\"R[0-9A-F]*\"/Id=\"R\"/2; s/<Relationship /\n<Relationship /g" "$folder/_rels/.rels"
sed -i 's/ Id="[^"]*"//; s/<Relationship /<Relationship Id="R" /' "$folder/_rels/.rels"
awk '/<Relationship / { sub(/Id="R"/, "Id=\"R" ++n "\"") } { print }' "$folder/_rels/.rels" > "$folder/_rels/new" && mv "$folder/_rels/new" "$folder/_rels/.rels"
find "$folder" -exec touch -d "@${SOURCE_DATE_EPOCH:-315532800}" {} +
target=$(realpath -m "$2")
rm -f "$target"
(cd "$folder" && find . -type f | LC_ALL=C sort | TZ=UTC zip -q -X -@ "$target")
