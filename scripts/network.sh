#!/usr/bin/env bash
# A small network of namespaces to trace paths in. Runs as root.
#
#   network.sh up PREFIX     makes it; the namespaces are PREFIX-client, PREFIX-r1 …
#   network.sh down PREFIX   removes it
#
#                 .--- r2  (198.18.2.0/30, .6.0/30) ---.
#   client --- r1                                       r3 --- target
#   198.18.1.1    '--- r2b (198.18.12.0/30, .16.0/30) --'     198.18.9.2
#
# IPv6 the same in fd77:x::. The way is by r2; a route on r1 and r3 moves it to r2b.
# On r3: 198.18.90.0/24 is administratively prohibited, 198.18.91.0/24 unreachable,
# 198.18.92.0/24 swallowed. Between r3 and the target lies a pair of TUN devices
# (wire) in place of a cable when a third argument "wire" is given, for a program
# that delays and drops.
set -euo pipefail
what=${1:?up or down} p=${2:?prefix} wire=${3:-}
all=(client r1 r2 r2b r3 target)

if [ "$what" = down ]; then
  for n in "${all[@]}"; do ip netns del "$p-$n" 2>/dev/null || true; done
  exit 0
fi

for n in "${all[@]}"; do ip netns add "$p-$n"; done
for n in "${all[@]}"; do
  ip netns exec "$p-$n" sysctl -q -w net.ipv6.conf.all.accept_dad=0 net.ipv6.conf.default.accept_dad=0 net.ipv6.conf.all.forwarding=1 net.ipv4.ip_forward=1
  ip -n "$p-$n" link set lo up
done

cable() { # cable A B NUMBER: addresses 198.18.NUMBER.1 and .2, fd77:NUMBER::1 and ::2
  ip link add "to-$2" netns "$p-$1" type veth peer name "to-$1" netns "$p-$2"
  plug "$1" "to-$2" "$3" 1
  plug "$2" "to-$1" "$3" 2
}
plug() { # plug NODE DEVICE NUMBER END
  ip -n "$p-$1" addr add "198.18.$3.$4/30" dev "$2"
  ip -n "$p-$1" addr add "fd77:$3::$4/64" dev "$2" nodad
  ip -n "$p-$1" link set "$2" up
}
way() { # way NODE NUMBER END: the default route of a node
  ip -n "$p-$1" route add default via "198.18.$2.$3"
  ip -n "$p-$1" -6 route add default via "fd77:$2::$3"
}
to() { # to NODE NET NUMBER END: a network by a neighbour
  ip -n "$p-$1" route add "198.18.$2.0/24" via "198.18.$3.$4"
  ip -n "$p-$1" -6 route add "fd77:$2::/64" via "fd77:$3::$4"
}

cable client r1 1
cable r1 r2 2
cable r2 r3 6
cable r1 r2b 12
cable r2b r3 16
if [ "$wire" = wire ]; then
  ip -n "$p-r3" tuntap add mode tun name wire
  ip -n "$p-target" tuntap add mode tun name wire
  plug r3 wire 9 1
  plug target wire 9 2
else
  cable r3 target 9
fi

way client 1 2
way r1 2 2
way r2 6 2
way r2b 16 2
way target 9 1
to r2 1 2 1
to r2b 1 12 1
to r3 1 6 1
to r3 2 6 1
ip -n "$p-r3" route add prohibit 198.18.90.0/24
ip -n "$p-r3" route add unreachable 198.18.91.0/24
ip -n "$p-r3" route add blackhole 198.18.92.0/24
