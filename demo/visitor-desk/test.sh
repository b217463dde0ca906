#!/bin/sh
# The desk's own tests, and their report in JUnit's form.
set -eu
mkdir -p out/page
cases=""
failed=0
ok() { echo "ok: $1"; cases="$cases<testcase classname=\"desk\" name=\"$1\"/>"; }
not_ok() {
    echo "not ok: $2" >&2
    cases="$cases<testcase classname=\"desk\" name=\"$1\"><failure message=\"$2\"/></testcase>"
    failed=1
}

greeting=$(cat desk/greeting.txt)
case $greeting in
*Fernhollow*) ok "the greeting names the garden" ;;
*) not_ok "the greeting names the garden" "the greeting is: $greeting" ;;
esac

days=$(grep -c . desk/hours.txt)
if [ "$days" = 7 ]; then ok "the hours name every day"; else not_ok "the hours name every day" "the hours name $days days of 7"; fi

sh desk/render.sh desk out/page >/dev/null
if grep -q "$greeting" out/page/index.html; then ok "the page shows the greeting"; else not_ok "the page shows the greeting" "it does not"; fi

echo "<testsuite name=\"desk\">$cases</testsuite>" >out/desk.xml
exit $failed
