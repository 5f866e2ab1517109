# Sourced by the commands in bin: where things live. Needs the repository root as working directory.
CADREL_ROOT=$PWD
CADREL_VAR=${CADREL_VAR:-$CADREL_ROOT/var}
CADREL_VENV=$CADREL_VAR/venv
export CADREL_ROOT CADREL_VAR CADREL_VENV
export PYTHONPATH=$CADREL_ROOT/src
export PYTHONUNBUFFERED=1
export DJANGO_SETTINGS_MODULE=cadrel.web.settings
# numba keeps a compiled function as long as its own file is unchanged, even if what it inlines has changed: one
# cache per state of the core.
export NUMBA_CACHE_DIR=$CADREL_VAR/numba/$(cat src/cadrel/core/*/*.py | sha1sum | cut -c1-12)
mkdir -p "$CADREL_VAR" "$NUMBA_CACHE_DIR" 2>/dev/null || true
