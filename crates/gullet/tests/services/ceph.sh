#!/usr/bin/env bash
# Ceph with its S3 gateway on one machine, everything in memory: `ceph.sh FOLDER MONITOR_PORT GATEWAY_PORT`; the keys are AK and SK.
# It returns when the gateway answers; the processes' numbers stand in FOLDER/run. `ceph.sh gateway FOLDER PORT` starts the gateway
# alone again.
set -eu
gateway() { # FOLDER PORT
  radosgw -c "$1/ceph.conf" -n client.rgw -f >"$1/log/gateway" 2>&1 &
  echo $! >"$1/run/gateway.pid"
  until curl -s -o /dev/null "http://127.0.0.1:$2/"; do sleep 0.2; done
}
if [ "$1" = gateway ]; then
  gateway "$2" "$3"
  exit
fi
folder=$1 monitor=$2 port=$3
mkdir -p "$folder"/{mon,osd,rgw,run,log}
fsid=$(cat /proc/sys/kernel/random/uuid)
cat >"$folder/ceph.conf" <<C
[global]
fsid = $fsid
mon_initial_members = a
mon_host = [v2:127.0.0.1:$monitor]
public_network = 127.0.0.0/8
ms_bind_ipv6 = false
auth_cluster_required = cephx
auth_service_required = cephx
auth_client_required = cephx
auth_allow_insecure_global_id_reclaim = false
keyring = $folder/keyring
run_dir = $folder/run
admin_socket = $folder/run/\$name.asok
log_file = $folder/log/\$name.log
# Quick answers of a monitor that is alone.
paxos_propose_interval = 0.05
paxos_min_wait = 0.01
osd_pool_default_size = 1
osd_pool_default_min_size = 1
osd_pool_default_pg_num = 1
osd_pool_default_pgp_num = 1
osd_pool_default_pg_autoscale_mode = off
osd_crush_chooseleaf_type = 0
mon_allow_pool_size_one = true
mon_max_pg_per_osd = 1000
mon_data_avail_crit = 1
[mon.a]
mon_data = $folder/mon
[osd.0]
osd_data = $folder/osd
osd_objectstore = memstore
memstore_device_bytes = 4294967296
[client.rgw]
rgw_frontends = beast endpoint=127.0.0.1:$port tcp_nodelay=1
rgw_data = $folder/rgw
rgw_dns_name = localhost
C
conf=$folder/ceph.conf
ceph-authtool --create-keyring "$folder/keyring" --gen-key -n mon. --cap mon 'allow *' >/dev/null
for name in client.admin osd.0 client.rgw; do
  ceph-authtool "$folder/keyring" --gen-key -n $name --cap mon 'allow *' --cap osd 'allow *' --cap mgr 'allow *' >/dev/null
done
monmaptool --create --fsid "$fsid" --addv a "[v2:127.0.0.1:$monitor]" "$folder/monmap" >/dev/null
ceph-mon -c "$conf" -i a --mkfs --monmap "$folder/monmap" --keyring "$folder/keyring"
ceph-mon -c "$conf" -i a -f >"$folder/log/mon" 2>&1 &
echo $! >"$folder/run/mon.pid"
ceph -c "$conf" --connect-timeout 20 mon stat >/dev/null
uuid=$(cat /proc/sys/kernel/random/uuid)
ceph -c "$conf" osd new "$uuid" >/dev/null
ceph-osd -c "$conf" -i 0 --osd-uuid "$uuid" --mkfs >"$folder/log/mkfs" 2>&1
ceph-osd -c "$conf" -i 0 -f >"$folder/log/osd" 2>&1 &
echo $! >"$folder/run/osd.pid"
until ceph -c "$conf" osd stat | grep -q '1 up'; do sleep 0.2; done
gateway "$folder" "$port"
radosgw-admin -c "$conf" user create --uid=quay --display-name=quay --access-key=AK --secret-key=SK >/dev/null 2>&1
