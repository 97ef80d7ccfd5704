# What the service asks of a machine about a step; see ask.sh. $verb, $folder, $unit and $limit stand before it.
$ErrorActionPreference = 'Stop'
$boot = (Get-CimInstance Win32_OperatingSystem).LastBootUpTime.ToUniversalTime().Ticks
switch ($verb) {
    'look' {
        $task = Get-ScheduledTask -TaskName $unit -ErrorAction SilentlyContinue
        if (Test-Path "$folder/ended") { 'ended ' + [IO.File]::ReadAllText("$folder/ended") }
        elseif ($task -and $task.State -in 'Running', 'Queued') { 'goes-on' }
        elseif (-not (Test-Path "$folder/begun")) { 'new' }
        elseif ([IO.File]::ReadAllText("$folder/begun") -ne "$boot") { 'restarted' }
        else {
            $result = (Get-ScheduledTaskInfo -TaskName $unit).LastTaskResult
            if ($result -eq 0x41306) { 'cut timeout' } else { "cut result $result" } # ended because its time was over
        }
    }
    'prepare' {
        New-Item -Force -ItemType Directory -Path $folder | Out-Null
        & icacls.exe $folder /inheritance:r /grant '*S-1-5-18:(OI)(CI)F' '*S-1-5-32-544:(OI)(CI)F' | Out-Null
    }
    'begin' {
        $line = "-NoProfile -NonInteractive -ExecutionPolicy Bypass -File `"$folder/run.ps1`" `"$folder`""
        $action = New-ScheduledTaskAction -Execute 'powershell.exe' -Argument $line
        $settings = New-ScheduledTaskSettingsSet -ExecutionTimeLimit (New-TimeSpan -Seconds $limit) `
            -AllowStartIfOnBatteries -DontStopIfGoingOnBatteries
        $system = New-ScheduledTaskPrincipal -UserId 'S-1-5-18' -RunLevel Highest
        Register-ScheduledTask -Force -TaskName $unit -Action $action -Settings $settings -Principal $system | Out-Null
        Start-ScheduledTask -TaskName $unit
        # Until it has begun it would be begun again by whoever looks.
        for ($n = 0; $n -lt 150 -and -not (Test-Path "$folder/begun"); $n++) { Start-Sleep -Milliseconds 100 }
    }
    'restart' {
        if (-not (Test-Path "$folder/from")) { [IO.File]::WriteAllText("$folder/from", "$boot") }
        if ([IO.File]::ReadAllText("$folder/from") -eq "$boot") { Restart-Computer -Force } else { 'running' }
    }
    'restart-pending' {
        $keys = 'Component Based Servicing/RebootPending', 'WindowsUpdate/Auto Update/RebootRequired'
        $pending = $keys | Where-Object { Test-Path "HKLM:/SOFTWARE/Microsoft/Windows/CurrentVersion/$_" }
        if ($pending) { 'yes' } else { 'no' }
    }
    'output' { # from byte $from on, at most $most
        if (Test-Path "$folder/output") {
            $file = [IO.File]::Open("$folder/output", 'Open', 'Read', 'ReadWrite')
            try {
                if ($from -lt 0) { $from = [Math]::Max(0, $file.Length + $from) }
                if ($from -lt $file.Length) {
                    [void]$file.Seek($from, 'Begin')
                    $piece = New-Object byte[] ([Math]::Min($most, $file.Length - $from))
                    $read = $file.Read($piece, 0, $piece.Length)
                    [Console]::OpenStandardOutput().Write($piece, 0, $read)
                }
            } finally { $file.Close() }
        }
    }
}
