# Sourced by bin/demo and bin/test after env.sh: installs what is missing. setup_packages NAME...; setup_python
say() { echo "cadrel: $*" >&2; }
fail() { say "$*"; exit 2; }

as_root() {
    if [ "$(id -u)" = 0 ]; then "$@"
    else sudo "$@"; fi
}

setup_packages() {
    MISSING="$*"
    [ -z "$MISSING" ] && return
    [ "$(id -u)" = 0 ] || command -v sudo >/dev/null ||
        fail "installing $MISSING needs root or sudo, and there is neither; ask an administrator to install it."
    say "installing $MISSING ..."
    as_root env DEBIAN_FRONTEND=noninteractive apt-get update -qq >"$CADREL_VAR/apt.log" 2>&1 || true
    # shellcheck disable=SC2086
    as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq $MISSING >>"$CADREL_VAR/apt.log" 2>&1 ||
        fail "$MISSING could not be installed; $CADREL_VAR/apt.log says why."
}

setup_python() {
    local python lock
    python=$(command -v python3.11 || true)
    [ -n "$python" ] && "$python" -c "import ensurepip, venv" 2>/dev/null || { setup_packages python3.11 python3.11-venv; python=$(command -v python3.11); }
    lock=$(sha1sum requirements.lock | cut -c1-40)
    if [ "$(cat "$CADREL_VENV/lock" 2>/dev/null)" != "$lock" ]; then
        say "setting up the Python environment ..."
        "$python" -m venv --clear "$CADREL_VENV" || fail "the virtual environment in $CADREL_VENV could not be made."
        "$CADREL_VENV/bin/python" -m pip install -q --disable-pip-version-check -r requirements.lock >"$CADREL_VAR/pip.log" 2>&1 ||
            fail "the Python packages could not be installed; $CADREL_VAR/pip.log says why."
        echo "$lock" >"$CADREL_VENV/lock"
    fi
}

# What checks the pages' scripts: Node comes with the Python environment, its packages from the lock file.
setup_scripts() {
    local lock
    lock=$(sha1sum package-lock.json | cut -c1-40)
    if [ "$(cat node_modules/.lock 2>/dev/null)" != "$lock" ]; then
        say "setting up the checks of the scripts ..."
        PATH=$CADREL_VENV/bin:$PATH npm ci --no-audit --no-fund >"$CADREL_VAR/npm.log" 2>&1 ||
            fail "the packages that check the scripts could not be installed; $CADREL_VAR/npm.log says why."
        echo "$lock" >node_modules/.lock
    fi
}

setup_base() {
    local free packages=""
    mkdir -p "$CADREL_VAR" 2>/dev/null && [ -w "$CADREL_VAR" ] || fail "$CADREL_VAR cannot be written to."
    free=$(df -Pm "$CADREL_VAR" | awk 'NR==2 {print $4}')
    [ "${free:-0}" -ge 1500 ] || fail "1500 MB of disk are needed in $CADREL_VAR, $free MB are free."
    compgen -G "/usr/lib/postgresql/*/bin/postgres" >/dev/null || packages="postgresql"
    for want in "$@"; do packages="$packages $want"; done
    setup_packages $packages
    setup_python
    mkdir -p "$NUMBA_CACHE_DIR"
    if [ -z "$(ls -A "$NUMBA_CACHE_DIR")" ]; then
        say "compiling the kernels ..."
        "$CADREL_VENV/bin/python" -m cadrel.cli.main warm-up || fail "the kernels could not be compiled."
    fi
}
