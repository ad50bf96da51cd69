#!/bin/sh
# Checks, builds and tries what was pushed; rehearses a release of it; releases it when the commit has a tag such as v1.2.0.
# It needs vornix and git, and runs without a terminal. From outside it takes, all of them optional:
#   CACHE    a folder that the system keeps between runs: only what changed is built. Only runs with TRUST write to it
#   REPORTS  a folder for the findings (SARIF 2.1.0) and the tried maps (JUnit XML)   (default: out/ci)
#   BRANCH   the branch that gets the record of a release                            (default: main)
#   TRUST    "yes" lets the project run its own steps and use the secrets that it names; leave it out for strangers' branches
#   VORNIX_SIGNING_KEY, and the variables that vornix.toml names for targets: the secrets
set -eu
cd "$(dirname "$0")"
reports="${REPORTS:-out/ci}"
mkdir -p "$reports"
if [ -n "${CACHE:-}" ]; then
    export VORNIX_STATE=any # what is restored below was made by another machine
    mkdir -p "$CACHE" .vornix
    [ ! -d "$CACHE/cache" ] || cp -R "$CACHE/cache" .vornix/
fi
if [ "${TRUST:-}" = yes ]; then
    vornix trust --yes
fi

vornix check --format sarif >"$reports/check.sarif"
vornix build --format sarif >"$reports/build.sarif"
vornix pack --quiet
vornix try --format junit >"$reports/try.xml"
if [ -n "${CACHE:-}" ] && [ "${TRUST:-}" = yes ]; then
    rm -rf "$CACHE/cache"
    cp -R .vornix/cache "$CACHE/"
fi

tag=$(git tag --points-at HEAD --list 'v[0-9]*' | head -n 1)
if [ "${TRUST:-}" != yes ]; then
    echo "No release and no rehearsal: TRUST is not set, so no secret is used."
elif [ -z "$tag" ]; then
    vornix release --dry --yes
else
    version="${tag#v}"
    vornix release "$version" --yes --tag none
    # What the release wrote down, for everybody else.
    git add vornix.toml releases
    [ ! -f published.toml ] || git add published.toml
    if ! git diff --cached --quiet; then
        git commit --quiet --message "Version $version is released"
        if ! git push --quiet origin "HEAD:refs/heads/${BRANCH:-main}"; then
            git push --quiet origin "HEAD:refs/heads/record-$version"
            echo "The branch went on meanwhile: merge record-$version into it."
        fi
    fi
fi
