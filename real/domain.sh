#!/bin/bash
# Runs a command beside a domain controller (Samba), in network and mount
# namespaces of its own: no packet reaches the machine's own network.
#
#   domain.sh CACHE COMMAND...
#
# The domain is provisioned once into the folder CACHE, and each time a copy of
# it is served. There are
#   MINTBATCH_REAL_DOMAIN   the folder of the one that runs; its certificate is dc/private/tls/cert.pem
# Its realm is LAB.EXAMPLE, its only address 10.53.0.1, and the password of its
# administrator Mint-7-Batch.
set -euo pipefail
PATH=$PATH:/usr/sbin:/sbin
cache=$1
shift
export MINTBATCH_REAL_DOMAIN
MINTBATCH_REAL_DOMAIN=$(mktemp -d)
export cache
trap 'rm -rf "$MINTBATCH_REAL_DOMAIN"' EXIT

inside() {
  set -euo pipefail
  mount --make-rprivate /
  ip link set lo up
  ip address add 10.53.0.1/24 dev lo
  own=$MINTBATCH_REAL_DOMAIN
  mkdir -p /run/samba
  mount -t tmpfs tmpfs /run/samba # what another one has left there would keep it from starting
  printf '127.0.0.1 localhost\n10.53.0.1 dc1.lab.example dc1\n' >"$own/hosts"
  printf 'search lab.example\nnameserver 10.53.0.1\n' >"$own/resolv.conf"
  printf '[libdefaults]\n default_realm = LAB.EXAMPLE\n dns_lookup_kdc = false\n rdns = false\n[realms]\n LAB.EXAMPLE = {\n  kdc = 10.53.0.1\n  admin_server = 10.53.0.1\n  kpasswd_server = 10.53.0.1\n }\n[domain_realm]\n .lab.example = LAB.EXAMPLE\n lab.example = LAB.EXAMPLE\n' >"$own/krb5.conf"
  for file in hosts resolv.conf krb5.conf; do
    [ -e "/etc/$file" ] || : >"/etc/$file" # what is not there cannot be mounted over
    mount --bind "$own/$file" "$(readlink -f /etc/$file)"
  done
  if [ ! -e "$cache/ready" ]; then
    rm -rf "$cache"
    mkdir -p "$cache"
    samba-tool domain provision --targetdir="$cache/dc" --use-rfc2307 --realm=LAB.EXAMPLE --domain=LAB --server-role=dc \
      --dns-backend=SAMBA_INTERNAL --adminpass=Mint-7-Batch --host-ip=10.53.0.1 --host-name=dc1 \
      --option="interfaces=lo" --option="bind interfaces only=yes" >"$cache/said" 2>&1 || { cat "$cache/said"; exit 1; }
    touch "$cache/ready"
  fi
  cp -a "$cache/dc" "$own/dc"
  mkdir -p "$own/dc/private/tls"
  openssl req -x509 -newkey rsa:2048 -nodes -days 30 -subj /CN=dc1.lab.example -addext subjectAltName=DNS:dc1.lab.example \
    -keyout "$own/dc/private/tls/key.pem" -out "$own/dc/private/tls/cert.pem" 2>/dev/null
  cp "$own/dc/private/tls/cert.pem" "$own/dc/private/tls/ca.pem"
  chmod 600 "$own/dc/private/tls/key.pem"
  sed -i "s|$cache/dc|$own/dc|g; s|^\[global\]|&\n ldap server require strong auth = allow_sasl_over_tls\n allow dns updates = secure only|" "$own/dc/etc/smb.conf"
  samba -F --no-process-group -s "$own/dc/etc/smb.conf" >"$own/log" 2>&1 &

  for _ in $(seq 300); do
    LDAPTLS_REQCERT=never ldapsearch -x -H ldaps://dc1.lab.example -D administrator@LAB.EXAMPLE -w Mint-7-Batch -b '' -s base defaultNamingContext >/dev/null 2>&1 &&
      dig +short +time=2 +tries=1 @10.53.0.1 lab.example SOA | grep -q . && break
    sleep 0.2
  done
  "$@"
}
export -f inside
unshare -n -m -p --fork --mount-proc bash -c 'inside "$@"' inside "$@"
