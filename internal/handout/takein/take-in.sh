#!/bin/sh
# Takes in the machines that are in this folder: checks every file, then tells libvirt of each machine, where it is. Where there is
# no libvirt, says what to open. Machines that were moved are taken in again.
#
#   sh take-in.sh              all machines
#   sh take-in.sh NAME...      some of them
#   sh take-in.sh --check      only check the files
#   sh take-in.sh --unchecked  do not check them: machines that have run are not as they were handed out
set -eu
cd "$(dirname "$0")"
here=$(pwd)

if [ "${1-}" = --unchecked ]; then
	shift
elif echo "Checking the files in $here" && command -v sha256sum >/dev/null 2>&1; then
	sha256sum --quiet -c handout.sha256
elif command -v shasum >/dev/null 2>&1; then
	shasum -a 256 -c handout.sha256 >/dev/null
else
	echo "There is neither sha256sum nor shasum: the files were not checked." >&2
fi
if [ "${1-}" = --check ]; then
	echo "All files are as they were handed out."
	exit 0
fi

wanted() {
	[ "$others" -eq 0 ] || case " $asked " in *" $1 "*) ;; *) return 1 ;; esac
}
others=$#
asked="$*"
failed=0
tab=$(printf '\t')
while IFS="$tab" read -r name folder; do
	wanted "$name" || continue
	if [ -f "$folder/$name.xml" ] && command -v virsh >/dev/null 2>&1; then
		# The description names files by where they were; they are here now.
		place=$(printf '%s' "$here/$folder" | sed -e 's/&/\&amp;/g' -e "s/'/\&apos;/g" -e 's/</\&lt;/g' -e 's/[\\|&]/\\&/g')
		sed "s|<source file='[^']*/\([^/']*\)'/>|<source file='$place/\1'/>|" "$folder/$name.xml" >"${TMPDIR:-/tmp}/take-in.$$.xml"
		if virsh define "${TMPDIR:-/tmp}/take-in.$$.xml" >/dev/null; then
			echo "$name: start it with: virsh start $name"
		else
			failed=1
		fi
		rm -f "${TMPDIR:-/tmp}/take-in.$$.xml"
	elif [ -f "$folder/$name.ovf" ]; then
		echo "$name: open $here/$folder/$name.ovf with your hypervisor"
	else
		echo "$name: its disks are in $here/$folder"
	fi
done <handout.list
exit $failed
