#!/bin/bash
# Sets time zone, language and keyboard, each unless it is empty: locale.sh ZONE LANGUAGE KEYBOARD
zone=$1 language=$2 layout=${3%% *} variant=
[ "$layout" = "$3" ] || variant=${3#* }
if [ -n "$zone" ]; then
	if [ ! -f "/usr/share/zoneinfo/$zone" ]; then
		echo "there is no time zone $zone on this machine: install tzdata, or name one that is in /usr/share/zoneinfo"
		exit 1
	fi
	ln --symbolic --force "/usr/share/zoneinfo/$zone" /etc/localtime && echo "$zone" >/etc/timezone || exit
	echo "the time zone is $zone"
fi
there() { locale --all-locales | grep --quiet --ignore-case --line-regexp --fixed-strings -- "${language//UTF-8/utf8}"; }
if [ -n "$language" ]; then
	if ! there && command -v locale-gen >/dev/null; then
		grep --quiet --line-regexp --fixed-strings "$language UTF-8" /etc/locale.gen 2>/dev/null ||
			echo "$language UTF-8" >>/etc/locale.gen
		locale-gen || exit
	fi
	if ! there; then
		echo "there is no language $language on this machine: install its package before (locales, or glibc-langpack-*)"
		exit 1
	fi
	for file in /etc/default/locale /etc/locale.conf; do
		[ ! -d "$(dirname "$file")" ] || printf 'LANG=%s\n' "$language" >"$file" || exit
	done
	echo "the language is $language"
fi
if [ -n "$layout" ]; then
	printf 'XKBMODEL="pc105"\nXKBLAYOUT="%s"\nXKBVARIANT="%s"\nXKBOPTIONS=""\n' "$layout" "$variant" >/etc/default/keyboard &&
		mkdir --parents /etc/X11/xorg.conf.d &&
		cat >/etc/X11/xorg.conf.d/00-keyboard.conf <<-END || exit
			Section "InputClass"
			    Identifier "system-keyboard"
			    MatchIsKeyboard "on"
			    Option "XkbModel" "pc105"
			    Option "XkbLayout" "$layout"
			    Option "XkbVariant" "$variant"
			EndSection
		END
	echo "the keyboard is $3"
fi
