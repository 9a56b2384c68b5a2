# SPDX-License-Identifier: Apache-2.0
# Sourced by ./demo and ./check: installs what is missing and builds the release preset.
set -eu
cd "${root:-$(dirname "$0")}"
missing=""
# ./demo does without what only the tests need
for package in $(sed "${without_tests:+/^# Only for the tests/,\$d}" packages.txt | grep -v '^#'); do
    dpkg -s "$package" >/dev/null 2>&1 || missing="$missing $package"
done
if [ -n "$missing" ]; then
    echo "installing:$missing"
    if [ "$(id -u)" = 0 ]; then asroot=""; else asroot="sudo"; fi
    $asroot apt-get update -qq
    DEBIAN_FRONTEND=noninteractive $asroot apt-get install -y -qq --no-install-recommends $missing
fi
cmake --preset release
cmake --build --preset release
