# Removes files and folders, and behind packages: packages.
$packages = $false
foreach ($name in $args) {
    if ($name -eq 'packages:' -and -not $packages) { $packages = $true; continue }
    if ($packages) {
        & winget.exe uninstall --exact --id $name --silent --disable-interactivity --accept-source-agreements
        if ($LASTEXITCODE -ne 0) { exit $LASTEXITCODE }
    } else {
        if (Test-Path -LiteralPath $name) { Remove-Item -Recurse -Force -LiteralPath $name -ErrorAction Stop }
        "removed $name"
    }
}
