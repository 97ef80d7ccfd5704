# Installs the packages that are its arguments, by the package manager that comes with Windows.
foreach ($name in $args) {
    & winget.exe install --exact --id $name --silent --scope machine --disable-interactivity `
        --accept-package-agreements --accept-source-agreements
    if ($LASTEXITCODE -ne 0) { exit $LASTEXITCODE }
}
