# To be sourced: what Python compiles while tests are set up and run is kept in .venv, whatever the machine says of it, so
# that the next of their many processes need not do it again.
unset PYTHONDONTWRITEBYTECODE
export PYTHONPYCACHEPREFIX="$PWD/.venv/bytecode"
