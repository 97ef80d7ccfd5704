# Writes the file beside it: put.ps1 MODE OWNER PATH [SHA256]. Windows has no modes; root is its administrators.
param([string]$Mode, [string]$Owner, [string]$Path, [string]$Digest)
$ErrorActionPreference = 'Stop'
$content = Join-Path $PSScriptRoot 'content'
if ($Digest -and (Get-FileHash -Algorithm SHA256 -LiteralPath $content).Hash -ne $Digest) {
    "what came has another digest than ${Digest}: it was damaged on its way"
    exit 1
}
$parent = Split-Path -Parent $Path
if ($parent) { New-Item -Force -ItemType Directory -Path $parent | Out-Null }
Move-Item -Force -LiteralPath $content -Destination $Path
if ($Owner -eq 'root') { $Owner = '*S-1-5-32-544' }
& icacls.exe $Path /setowner $Owner | Out-Null
if ($LASTEXITCODE -ne 0) { "there is no account $Owner on this machine"; exit 1 }
"wrote $((Get-Item -LiteralPath $Path).Length) bytes to $Path"
