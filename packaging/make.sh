#!/usr/bin/env bash
# Makes everything that is given to others, in .build/packages: archives and Debian packages of the service for two architectures, the
# packages of the clients and of the command line, and a list of what is in them (CycloneDX). The same commit makes the same bytes.
set -euo pipefail
cd "$(dirname "$0")/.."
root=$PWD
version=$(sed -n 's:.*<Version>\(.*\)</Version>.*:\1:p' Directory.Build.props)
export SOURCE_DATE_EPOCH=${SOURCE_DATE_EPOCH:-$(git log -1 --format=%ct)}
out=$root/.build/packages
work=$root/.build/packaging
rm -rf "$out" "$work"
mkdir -p "$out" "$work/tree"
# What is committed, and the pages made of it. Packages need other libraries of the runtime than a build does: its lists of versions stay as they are.
git archive HEAD | tar -x -C "$work/tree"
for pages in clients/typescript console demo/crew; do cp -r "$pages/dist" "$work/tree/$pages/"; done
find "$work/tree" -name packages.lock.json -delete
cd "$work/tree"
grep -q "\"version\": \"$version\"" clients/typescript/package.json || { echo "clients/typescript/package.json has another version than $version" >&2; exit 1; }

settings=(-c Release -v quiet --nologo -p:RunAnalyzers=false -p:ContinuousIntegrationBuild=true -p:DebugType=none -p:RestoreLockedMode=false "-p:PathMap=$work/tree=/rovett")

archive() { # a folder, as a reproducible archive beside it
  tar --sort=name --owner=0 --group=0 --numeric-owner --mtime="@$SOURCE_DATE_EPOCH" -C "$(dirname "$1")" -cf - "$(basename "$1")" | gzip -9n > "$2"
}

for architecture in ${ARCHITECTURES:-x64 arm64}; do
  name=rovett-$version-linux-$architecture
  folder=$work/$name
  # One file, and the native libraries beside it: extracting them at each start would need a place to write to.
  dotnet publish src/Rovett.Cli -r "linux-$architecture" --self-contained -p:SelfContained=true -p:PublishSingleFile=true -p:PublishReadyToRunComposite=false "${settings[@]}" -o "$folder"
  rm -f "$folder"/*.xml "$folder"/*.pdb "$folder"/createdump "$folder"/*-librdkafka.so
  cp LICENSE "$folder"/ 2>/dev/null || true
  archive "$folder" "$out/$name.tar.gz"

  [ "$architecture" = x64 ] && debian=amd64 || debian=arm64
  package=$work/deb-$debian
  mkdir -p "$package"/{DEBIAN,usr/bin,usr/lib,usr/share/doc/rovett,lib/systemd/system,etc/rovett}
  cp -r "$folder" "$package/usr/lib/rovett"
  ln -s ../lib/rovett/rovett "$package/usr/bin/rovett"
  cp packaging/rovett.service "$package/lib/systemd/system/"
  cp packaging/rovett.yaml "$package/etc/rovett/"
  cp -r README.md docs/*.md docs/deploy docs/watch "$package/usr/share/doc/rovett/"
  printf 'Rovett is licensed under the Apache License 2.0; see /usr/share/common-licenses/Apache-2.0.\nLibraries in it have licenses of their own: rovett-%s.cdx.json lists them.\n' "$version" > "$package/usr/share/doc/rovett/copyright"
  sed "s/@VERSION@/$version/; s/@ARCHITECTURE@/$debian/; s/@SIZE@/$(du -sk "$package/usr" | cut -f1)/" packaging/debian/control > "$package/DEBIAN/control"
  cp packaging/debian/{conffiles,postinst,prerm,postrm} "$package/DEBIAN/"
  find "$package" -type d -exec chmod 755 {} + -o -type f -exec chmod 644 {} +
  chmod 755 "$package"/DEBIAN/{postinst,prerm,postrm} "$package/usr/lib/rovett/rovett"
  find "$package" -newermt "@$SOURCE_DATE_EPOCH" -exec touch -h -d "@$SOURCE_DATE_EPOCH" {} +
  dpkg-deb --root-owner-group -Zxz --build "$package" "$out/rovett_${version}_$debian.deb" >/dev/null
done

for project in Rovett.Client Rovett.Client.EntityFrameworkCore; do
  dotnet pack "src/$project" "${settings[@]}" -p:PackageReadmeFile= -o "$work/nuget"
done
dotnet pack src/Rovett.Cli "${settings[@]}" -p:AsTool=true -o "$work/nuget"
for package in "$work"/nuget/*.nupkg; do packaging/steady.sh "$package" "$out/$(basename "$package")"; done

(cd clients/typescript && npm pack --silent --pack-destination "$out" >/dev/null)

# What is in it: the libraries of the service, and those that its pages were built with.
dotnet tool restore >/dev/null
dotnet CycloneDX src/Rovett.Cli/Rovett.Cli.csproj --output "$work" --filename service.json --output-format Json --set-name rovett --set-version "$version" \
  --set-type Application --disable-package-restore --no-serial-number >/dev/null
cd "$root"
node packaging/parts.mjs "$work/service.json" package-lock.json "$SOURCE_DATE_EPOCH" > "$out/rovett-$version.cdx.json"
(cd "$out" && sha256sum -- * > SHA256SUMS && cat SHA256SUMS)
