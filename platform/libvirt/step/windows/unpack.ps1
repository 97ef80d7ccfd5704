# Unpacks the folder beside it into another: unpack.ps1 OWNER PATH SHA256
param([string]$Owner, [string]$Path, [string]$Digest)
$ErrorActionPreference = 'Stop'
$content = Join-Path $PSScriptRoot 'content'
if ((Get-FileHash -Algorithm SHA256 -LiteralPath $content).Hash -ne $Digest) {
    "what came has another digest than ${Digest}: it was damaged on its way"
    exit 1
}
New-Item -Force -ItemType Directory -Path $Path | Out-Null
& tar.exe -x -f $content -C $Path
if ($LASTEXITCODE -ne 0) { exit $LASTEXITCODE }
Remove-Item -Force -LiteralPath $content
if ($Owner -eq 'root') { $Owner = '*S-1-5-32-544' }
& icacls.exe $Path /setowner $Owner /t | Out-Null
if ($LASTEXITCODE -ne 0) { "there is no account $Owner on this machine"; exit 1 }
"wrote $((Get-ChildItem -Recurse -File -LiteralPath $Path).Count) files to $Path"
