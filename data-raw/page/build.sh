#!/bin/sh
# Makes the libraries of the pages, inst/page/*.min.js.xz and *.min.css.xz: of both only the parts
# that the pages use, packed. Needs node, npm and xz. From the package's root:
#   sh data-raw/page/build.sh
set -e
here=$(cd "$(dirname "$0")" && pwd)
out=$here/../../inst/page
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cp "$here"/package.json "$here"/charts.js "$here"/tables.js "$work"
cd "$work"
npm install --silent --no-audit --no-fund

bundle() {
  npx esbuild "$1.js" --bundle --minify --format=iife --legal-comments=none --log-level=warning \
    --banner:js="/* $2 */" --outfile="$1.min.js"
  xz -9e --stdout "$1.min.js" > "$out/$1.min.js.xz"
}
bundle charts "Parts of Apache ECharts 6.1.0, Apache License 2.0"
bundle tables "Parts of Tabulator 6.5.3, (c) Oliver Folkerd, MIT licence"
grep -v sourceMappingURL node_modules/tabulator-tables/dist/css/tabulator.min.css |
  xz -9e --stdout > "$out/tables.min.css.xz"
