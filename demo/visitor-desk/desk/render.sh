#!/bin/sh
# Fills the page: render.sh FROM TO
set -eu
mkdir -p "$2"
greeting=$(cat "$1/greeting.txt")
sed -e "s/@GREETING@/$greeting/" -e "/@HOURS@/r $1/hours.txt" -e "/@HOURS@/d" "$1/page.html" > "$2/index.html"
cp "$1/greeting.txt" "$2/greeting.txt"
echo "rendered for: $greeting"
