#!/bin/sh
# Puts Debian's Chromium and its driver in place for the browser tests, or says what to install.
set -eu
if command -v chromium >/dev/null && command -v chromedriver >/dev/null; then
    exit 0
fi
if command -v apt-get >/dev/null && [ "$(id -u)" = 0 ]; then
    echo "installing chromium and chromium-driver"
    apt-get update -q >/dev/null
    DEBIAN_FRONTEND=noninteractive apt-get install -y -q --no-install-recommends chromium chromium-driver >/dev/null
    exit 0
fi
echo "The browser tests need Chromium and ChromeDriver. On Debian, run as root:" >&2
echo "    apt-get install chromium chromium-driver" >&2
exit 1
