# Sets what is given: locale.ps1 ZONE LANGUAGE KEYBOARD. What Windows names otherwise is said, and nothing is set.
param([string]$Zone, [string]$Language, [string]$Keyboard)
$ErrorActionPreference = 'Stop'
if ($Zone -and $Zone -ne 'UTC') {
    "Windows does not know the time zone $Zone by that name: set it with a script, by Set-TimeZone"
    exit 1
}
if ($Keyboard) {
    "the keyboard of all people is not set by a name such as $Keyboard in Windows: set it with a script"
    exit 1
}
if ($Zone) { Set-TimeZone -Id 'UTC'; 'the time zone is UTC' }
if ($Language) {
    $name = $Language.Split('.')[0].Replace('_', '-')
    Set-WinSystemLocale -SystemLocale $name
    Set-Culture -CultureInfo $name
    "the language is $name, from the next restart on"
}
