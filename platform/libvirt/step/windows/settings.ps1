# Sets what new people find: settings.ps1 PATH...; see settings.sh. New homes are made from the profile "Default".
$ErrorActionPreference = 'Stop'
$new = Join-Path $env:SystemDrive 'Users/Default'
$number = 0
foreach ($path in $args) {
    $to = Join-Path $new $path
    New-Item -Force -ItemType Directory -Path (Split-Path -Parent $to) | Out-Null
    Copy-Item -Force -LiteralPath (Join-Path $PSScriptRoot "file-$number") -Destination $to
    "wrote $to"
    $number++
}
$person = [IO.File]::ReadAllText((Join-Path $PSScriptRoot 'person'))
if ($person) {
    $home_ = Join-Path $env:SystemDrive "Users/$person"
    if (-not (Test-Path -LiteralPath $home_)) { "there is no account $person with a home on this machine"; exit 1 }
    $paths = @([IO.File]::ReadAllText((Join-Path $PSScriptRoot 'paths')).Split([char]0) | Select-Object -SkipLast 1)
    if (-not $paths) { 'name the paths that are taken over: in Windows not all that somebody has set is for others'; exit 1 }
    foreach ($path in $paths) {
        if ($path -match '(^|/)(\.ssh|\.gnupg|Credentials|Vault|Protect|Cookies|History)(/|$)') {
            "$path is somebody's own, and is not taken over"
            exit 1
        }
        $from = Join-Path $home_ $path
        if (-not (Test-Path -LiteralPath $from)) { "there is no $path in the home of $person"; exit 1 }
        $to = Join-Path $new $path
        New-Item -Force -ItemType Directory -Path (Split-Path -Parent $to) | Out-Null
        Copy-Item -Recurse -Force -LiteralPath $from -Destination $to
        "took over $path"
    }
}
foreach ($variable in [IO.File]::ReadAllText((Join-Path $PSScriptRoot 'variables')).Split([char]0)) {
    if (-not $variable) { continue }
    $name, $value = $variable.Split('=', 2)
    [Environment]::SetEnvironmentVariable($name, $value, 'Machine')
    "set $name"
}
