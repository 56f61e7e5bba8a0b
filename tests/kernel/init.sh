#!/bin/busybox sh
# The first program of the emulated machine: mounts, loads modules, does the work, and switches off.
B=/bin/busybox
$B mkdir -p /usr/sbin /sbin
$B --install -s /bin 2>/dev/null
export PATH=/bin:/usr/bin PYTHONPATH=/site:/usr/lib/python3/dist-packages HOME=/tmp COLUMNS=120 NO_COLOR=1 PYTHONDONTWRITEBYTECODE=1
mount -t proc none /proc
mount -t sysfs none /sys
mount -t devtmpfs none /dev 2>/dev/null
cd /work
load() { name=$1; shift; insmod /modules/$name.ko "$@" || echo "WRONG: $name was not loaded"; }
hw() { # STATUS COMMAND...: runs the program, and says when it did not end with that status
  wanted=$1; shift
  echo "\$ hushed-wire $*"
  /usr/bin/python3.11 -m hushed_wire "$@" 2>&1
  status=$?
  echo "(status $status)"
  [ $status = $wanted ] || echo "WRONG: status $status, not $wanted"
  echo
}
mark() { echo "==== $*" > /dev/kmsg; }
echo "==== begun"
echo "$(uname -srm)"
echo
@LOAD@
. ./@ARCH@.sh
echo "==== ended"
poweroff -f
