# Sourced by the commands beside it: installs what is missing, says what it does, and is quick where all is there.
root=$(cd "$(dirname "${BASH_SOURCE[0]}")/../.." && pwd)
venv=$root/.venv
export LANG=${LANG:-C.UTF-8}

say() { printf '%s\n' "$*" >&2; }

good_python() { python3 -c 'import ensurepip, venv, sys; sys.exit(sys.version_info < (3, 11))' 2>/dev/null; }

missing_packages() { # the Debian packages that a purpose (command, run, test, check) still needs
  good_python || echo python3 python3-venv
  [ -e /usr/share/libmysofa/MIT_KEMAR_normal_pinna.sofa ] || echo libmysofa1
  [ "$1" = command ] || ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || echo postgresql
  case $1 in test | check)
    [ -x /usr/bin/chromium ] || echo chromium
    ls /usr/lib/*/libatomic.so.1 >/dev/null 2>&1 || echo libatomic1
    ls /usr/lib/*/libltc.so.11 >/dev/null 2>&1 || echo libltc11 ;;
  esac
  [ "$1" != check ] || command -v npm >/dev/null || echo nodejs npm
}

install_packages() {
  local wanted; wanted=$(missing_packages "$1" | tr '\n' ' ')
  [ -n "$wanted" ] || return 0
  if [ "$(id -u)" != 0 ]; then
    say "Debian packages are missing. Run this as root once, then start again: apt-get install $wanted"; exit 2
  fi
  say "Installing Debian packages: $wanted"
  # the project runs a cluster of its own, so Debian's need not be made
  mkdir -p /etc/postgresql-common/createcluster.d
  [ -n "$(ls /usr/lib/postgresql 2>/dev/null)" ] || echo 'create_main_cluster = false' >/etc/postgresql-common/createcluster.d/metaphon.conf
  { apt-get update && DEBIAN_FRONTEND=noninteractive apt-get install -y --no-install-recommends $wanted; } >"$root/.local/apt.log" 2>&1 ||
    { tail -5 "$root/.local/apt.log" >&2; say "Debian packages could not be installed; see .local/apt.log."; exit 2; }
}

install_python() { # the virtual environment, from a locked list: run or test
  local list=$root/requirements/$1.txt stamp=$venv/.stamp-$1 wanted
  wanted=$(cat "$list" "$root/bin/lib/set_up.sh" | sha256sum)
  local sound=; "$venv/bin/python" -c '' 2>/dev/null && sound=yes
  [ -z "$sound" ] || [ "$(cat "$stamp" 2>/dev/null)" != "$wanted" ] || return 0
  [ -n "$sound" ] || { say "Making the virtual environment"; python3 -m venv --clear "$venv"; }
  say "Installing Python packages ($1)"
  "$venv/bin/python" -m pip install -q --disable-pip-version-check --require-hashes -r "$list" >&2 ||
    { say "Python packages could not be installed; is the package index reachable?"; exit 2; }
  "$venv/bin/python" -c 'import sysconfig, sys; open(sysconfig.get_path("purelib") + "/metaphon.pth", "w").write(sys.argv[1])' "$root/src"
  echo "$wanted" >"$stamp"
}

install_node() { # the formatters and linters of styles and scripts, from a locked list
  local stamp=$root/node_modules/.stamp wanted
  wanted=$(sha256sum <"$root/package-lock.json")
  [ "$(cat "$stamp" 2>/dev/null)" != "$wanted" ] || return 0
  say "Installing formatters and linters"
  (cd "$root" && npm ci --silent --ignore-scripts --no-audit --no-fund) >&2 ||
    { say "Node packages could not be installed; is the package index reachable?"; exit 2; }
  echo "$wanted" >"$stamp"
}

set_up() { # purpose: command, run, test or check
  mkdir -p "$root/.local"
  exec 9>"$root/.local/set_up.lock"; flock 9
  install_packages "$1"
  if [ "$1" = test ] || [ "$1" = check ]; then install_python test; elif [ ! -e "$venv/.stamp-test" ]; then install_python run; else install_python test; fi
  [ "$1" != check ] || install_node
  exec 9>&-
}

python() { exec "$venv/bin/python" "$@"; }
export NUMBA_CACHE_DIR=${NUMBA_CACHE_DIR:-$root/.local/numba} OPENBLAS_NUM_THREADS=1
export METAPHON_WORKING_COPIES=${METAPHON_WORKING_COPIES:-$root/.local/working-copies}
