#!/bin/sh
# Checks ownership.pml with spin, whole and with each control: ./run.sh (about three minutes; needs spin and gcc).
set -e
here=$(cd "$(dirname "$0")" && pwd)
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cd "$work"
cp "$here/ownership.pml" .

# check NAME EXPECTED-ERRORS FLAGS...: cycles without progress, and assertions
check() {
  name=$1; expected=$2; shift 2
  spin -a "$@" ownership.pml > /dev/null
  gcc -O2 -w -DNP -DNFAIR=4 -DCOLLAPSE -DMEMLIM=4000 -o pan pan.c
  found=$(./pan -l -f -m2000000 | tee out | sed -n 's/.*errors: //p')
  echo "$name: errors $found, $(sed -n 's/ *\([0-9]*\) states, stored.*/\1/p' out) states $(grep -o 'assertion violated.*\|non-progress cycle (.*' out || true)"
  test "$found" = "$expected"
}

check "as designed" 0
for control in NOFENCE EAGER NEVER GREEDY; do check "$control" 1 -D$control; done
spin -a -DSETTLED ownership.pml > /dev/null
gcc -O2 -w -DNFAIR=4 -DCOLLAPSE -DMEMLIM=4000 -o pan pan.c
./pan -a -f -m2000000 -N settled > out
echo "SETTLED: errors $(sed -n 's/.*errors: //p' out), $(sed -n 's/ *\([0-9]*\) states, stored.*/\1/p' out) states"
grep -q "errors: 0" out
