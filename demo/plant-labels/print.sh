#!/bin/sh
# Prints a page for each bed, and a report of the checks.
set -eu
mkdir -p pages out
count=0
while IFS='	' read -r plant bed; do
    count=$((count + 1))
    printf '%s\n%s\nprinted on %s\n' "$plant" "$bed" "${PONDRIX_MATRIX_BASE:-paper}" >"pages/$count.txt"
done <labels.txt
cat >out/labels.xml <<END
<testsuite name="labels" tests="2">
  <testcase classname="labels" name="every plant has a bed" time="0.01"/>
  <testcase classname="labels" name="$count pages were printed" time="0.02"/>
</testsuite>
END
echo "$count pages on ${PONDRIX_MATRIX_BASE:-paper}"
