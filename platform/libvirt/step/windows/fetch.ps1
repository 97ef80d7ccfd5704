# Fetches a file: fetch.ps1 MODE OWNER PATH ADDRESS SHA256
param([string]$Mode, [string]$Owner, [string]$Path, [string]$Address, [string]$Digest)
$ErrorActionPreference = 'Stop'
$ProgressPreference = 'SilentlyContinue'
$content = Join-Path $PSScriptRoot 'content'
try { Invoke-WebRequest -UseBasicParsing -Uri $Address -OutFile $content } catch {
    "$Address could not be fetched: $($_.Exception.Message)"
    exit 1
}
$is = (Get-FileHash -Algorithm SHA256 -LiteralPath $content).Hash.ToLowerInvariant()
if ($is -ne $Digest) {
    "what came from $Address has the digest $is, and not ${Digest}: it is another file, or was changed"
    exit 1
}
$parent = Split-Path -Parent $Path
if ($parent) { New-Item -Force -ItemType Directory -Path $parent | Out-Null }
Move-Item -Force -LiteralPath $content -Destination $Path
"wrote $((Get-Item -LiteralPath $Path).Length) bytes to $Path"
