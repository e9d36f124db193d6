#!/bin/sh
# A worker for Fonex in plain shell: stays alive and speaks with espeak-ng. The protocol is in docs/transports.md.

# field NAME: a string of the request in $line, with \" and \\ undone.
field() {
    printf '%s' "$line" | sed -n 's/.*"'"$1"'":"\(\([^"\\]\|\\.\)*\)".*/\1/p' | sed 's/\\\(["\\/]\)/\1/g'
}

# quoted: standard input as a string of JSON.
quoted() {
    printf '"%s"' "$(tr '\n\t\r' '   ' | sed 's/["\\]/\\&/g')"
}

# Whatever takes long, such as loading a model, comes before this line: it is start-up, not latency.
printf '{"ready":1,"name":%s}\n' "$(espeak-ng --version | quoted)"

while IFS= read -r line; do
    id=$(printf '%s' "$line" | sed 's/.*"id":\([0-9]*\).*/\1/')
    if [ "$(field do)" != speak ]; then
        printf '{"id":%s,"outcome":"refused","detail":"this worker only speaks"}\n' "$id"
        continue
    fi
    voice=$(field voice)
    output=$(field output)
    if said=$(field text | espeak-ng -v "${voice:-en-gb}" -s 160 -w "$output" --stdin 2>&1); then
        printf '{"id":%s,"audio":%s}\n' "$id" "$(printf '%s' "$output" | quoted)"
    else
        printf '{"id":%s,"outcome":"refused","detail":%s}\n' "$id" "$(printf '%s' "$said" | quoted)"
    fi
done
