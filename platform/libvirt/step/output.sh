# Prints what steps have written, one after the other: output.sh FROM MOST FOLDER...
# It travels on the standard input of a shell.
from=$1 most=$2
shift 2
cat -- "${@/%//output}" 2>/dev/null | tail --bytes=+$((from + 1)) | head --bytes="$most"
