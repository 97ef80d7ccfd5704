# Applies updates once: update.ps1 all|security. Exit code 11: some are pending still.
param([string]$Only)
$ErrorActionPreference = 'Stop'
$session = New-Object -ComObject Microsoft.Update.Session
function Find-Updates {
    $wanted = New-Object -ComObject Microsoft.Update.UpdateColl
    foreach ($update in $session.CreateUpdateSearcher().Search("IsInstalled=0 and Type='Software' and IsHidden=0").Updates) {
        # The category of security updates, by its identifier.
        $security = @($update.Categories | Where-Object { $_.CategoryID -eq '0fa1201d-4330-4fa8-8ae9-b877473b6441' })
        if ($Only -eq 'all' -or $security) { [void]$wanted.Add($update) }
    }
    , $wanted
}
$updates = Find-Updates
if ($updates.Count -eq 0) { 'no updates are pending'; exit 0 }
foreach ($update in $updates) { if (-not $update.EulaAccepted) { $update.AcceptEula() }; "applying $($update.Title)" }
$download = $session.CreateUpdateDownloader()
$download.Updates = $updates
[void]$download.Download()
$install = $session.CreateUpdateInstaller()
$install.Updates = $updates
$result = $install.Install()
if ($result.ResultCode -notin 2, 3) { "they could not be applied: result $($result.ResultCode)"; exit 1 }
if ($result.RebootRequired -or (Find-Updates).Count -gt 0) { exit 11 }
'no updates are pending'
