# Runs the program in the folder, as a scheduled task, and leaves there how it ended; see run.sh.
param([string]$Folder)
$ErrorActionPreference = 'Stop'
$boot = (Get-CimInstance Win32_OperatingSystem).LastBootUpTime.ToUniversalTime().Ticks
[IO.File]::WriteAllText("$Folder/begun", "$boot")
function Read-List([string]$Name) {
    @([IO.File]::ReadAllText("$Folder/$Name").Split([char]0) | Select-Object -SkipLast 1)
}
foreach ($variable in Read-List 'environment') {
    $name, $value = $variable.Split('=', 2)
    [Environment]::SetEnvironmentVariable($name, $value, 'Process')
}
$arguments = Read-List 'arguments'
$output = New-Object IO.StreamWriter("$Folder/output", $false, (New-Object Text.UTF8Encoding($false)))
$output.AutoFlush = $true
$code = 1
try {
    if ([IO.File]::ReadAllText("$Folder/as")) {
        $output.WriteLine('a step cannot be run as another person in Windows guests: leave "as" out')
    } else {
        $ErrorActionPreference = 'Continue'
        & powershell.exe -NoProfile -NonInteractive -ExecutionPolicy Bypass -File "$Folder/program.ps1" @arguments 2>&1 |
            ForEach-Object { $output.WriteLine("$_") }
        $code = $LASTEXITCODE
    }
} finally {
    $output.Close()
}
[IO.File]::WriteAllText("$Folder/ended.new", "$code")
Move-Item -Force -Path "$Folder/ended.new" -Destination "$Folder/ended"
