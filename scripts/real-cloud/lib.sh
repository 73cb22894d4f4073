# Shared by up and down. Everything lives below $REAL_CLOUD_DIR and listens on $REAL_CLOUD_ADDR only.
HERE=$(cd "$(dirname "${BASH_SOURCE[0]}")" && pwd)
DIR=${REAL_CLOUD_DIR:-$(cd "$HERE/../.." && pwd)/.cache/real-cloud}
ADDR=${REAL_CLOUD_ADDR:-127.40.0.1}
RUN=$DIR/run LOGS=$DIR/logs ETC=$DIR/etc PKG=$DIR/pkg
export PATH=/usr/sbin:/usr/bin:/sbin:/bin LC_ALL=C.UTF-8

started_at() { sed 's/.*) //' "/proc/$1/stat" 2>/dev/null | awk '{print $20}'; }
alive() { # NAME: does the process that we started under this name still run (same pid, same start time)?
  local pid at; read -r pid at 2>/dev/null <"$RUN/$1.pid" || return 1
  [ -n "$at" ] && [ "$(started_at "$pid")" = "$at" ]
}
spawn() { # NAME COMMAND...: start it in its own process group unless it runs already
  local name=$1 pid; shift
  alive "$name" && return 0
  setsid "$@" >>"$LOGS/$name.log" 2>&1 </dev/null 9>&- & pid=$!
  sleep 0.05
  echo "$pid $(started_at $pid)" >"$RUN/$name.pid"
}
stop() { # NAME SECONDS
  local pid at i; alive "$1" || { rm -f "$RUN/$1.pid"; return 0; }
  read -r pid at <"$RUN/$1.pid"
  kill -TERM "$pid" 2>/dev/null
  for ((i = 0; i < $2 * 10; i++)); do alive "$1" || break; sleep 0.1; done
  kill -KILL -- "-$pid" 2>/dev/null # its own group only: spawn used setsid
  rm -f "$RUN/$1.pid"
}
SERVICES="nova-compute-1 nova-compute-2 nova-api nova-scheduler nova-conductor neutron cinder-api cinder-scheduler cinder-volume glance placement keystone rabbit epmd mariadb"
