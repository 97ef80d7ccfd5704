#!/bin/bash
# Unpacks the folder beside it into another: unpack.sh OWNER PATH SHA256
folder=$(dirname "$0") owner=$1 to=$2
if ! sha256sum --check --status <<<"$3  $folder/content"; then
	echo "what came has another digest than $3: it was damaged on its way"
	exit 1
fi
# It is unpacked beside where it goes, so that what is there already keeps its owner.
rm -rf "$folder/unpacked" && mkdir "$folder/unpacked" &&
	tar --extract --file "$folder/content" --directory "$folder/unpacked" --no-same-owner --preserve-permissions &&
	rm "$folder/content" &&
	chown --recursive --no-dereference -- "$owner" "$folder/unpacked" || exit
[ -d "$to" ] || install -D --directory --mode=0755 --owner="$owner" -- "$to" || exit
find "$folder/unpacked" -mindepth 1 -maxdepth 1 -exec cp --archive --target-directory "$to" -- {} + || exit
echo "wrote $(find "$folder/unpacked" -type f -printf . | wc --bytes) files to $to"
rm -rf "$folder/unpacked"
