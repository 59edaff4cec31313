package unattend

// asLogin has a stage done by the login, in a session of its own: Windows logs it on once, with
// the restart that this takes. If the guest is restarted before the stage is over, that is done
// again.
const asLogin = `$logon = 'HKLM:\SOFTWARE\Microsoft\Windows NT\CurrentVersion\Winlogon'
function As-Login($next, $stage) {
  $result = 'C:\ProgramData\mintbatch-login\result.json'
  $asked = (Get-ItemProperty $key).Logon
  if ($asked -ne 'asked' -and -not (Test-Path $result)) {
    Note @{ name = $stage.name; state = 'begun' }
    $who = Get-Content -Encoding utf8 -Raw "$here\stage-login.json" | ConvertFrom-Json
    $theirs = Split-Path $result
    New-Item -ItemType Directory -Force $theirs | Out-Null
    icacls $theirs /inheritance:r /grant '*S-1-5-18:(OI)(CI)F' ($who.name + ':(OI)(CI)F') | Out-Null
    Copy-Item (Join-Path $here $stage.script), "$here\stage-person.ps1" $theirs -Force
    Set-Content -Encoding utf8 "$theirs\script" $stage.script
    Set-ItemProperty $logon AutoAdminLogon '1'
    Set-ItemProperty $logon DefaultUserName $who.name
    Set-ItemProperty $logon DefaultDomainName $env:COMPUTERNAME
    Set-ItemProperty $logon DefaultPassword $who.password
    Set-ItemProperty $logon AutoLogonCount 1 -Type DWord
    $action = New-ScheduledTaskAction -Execute powershell.exe -Argument "-NoProfile -ExecutionPolicy Bypass -File $theirs\stage-person.ps1"
    Register-ScheduledTask -TaskName mintbatch-login -Action $action -Trigger (New-ScheduledTaskTrigger -AtLogOn -User $who.name) -Principal (New-ScheduledTaskPrincipal -UserId $who.name -LogonType Interactive -RunLevel Highest) -Settings (New-ScheduledTaskSettingsSet -ExecutionTimeLimit 0 -AllowStartIfOnBatteries) -Force | Out-Null
    Set-ItemProperty $key Logon 'asked'
    shutdown /r /t 0
    exit
  }
  Set-ItemProperty $key Logon 'waiting'
  while (-not (Test-Path $result)) { Start-Sleep 1 }
  Set-ItemProperty $logon AutoAdminLogon '0'
  Remove-ItemProperty $logon 'DefaultPassword', 'AutoLogonCount' -ErrorAction SilentlyContinue
  Unregister-ScheduledTask -TaskName mintbatch-login -Confirm:$false -ErrorAction SilentlyContinue
  $said = Get-Content -Encoding utf8 -Raw $result | ConvertFrom-Json
  Remove-ItemProperty $key Logon
  Remove-Item (Split-Path $result) -Recurse -Force
  Done $next $stage ([int]$said.code) @($said.output) ([datetime]$said.began)
}
`

// doAsLogin does that stage in the session, keeps what came of it, and ends the session.
const doAsLogin = `$file = Join-Path $PSScriptRoot (Get-Content -Encoding utf8 "$PSScriptRoot\script" | Select-Object -First 1).Trim()
$began = Get-Date
if ($file -like '*.ps1') { $output = & powershell -NoProfile -ExecutionPolicy Bypass -File $file 2>&1 } else { $output = & cmd /d /c $file 2>&1 }
$code = $LASTEXITCODE
@{ code = $code; began = $began.ToString('o'); output = @($output | Select-Object -Last 20 | ForEach-Object { "$_" }) } | ConvertTo-Json | Set-Content -Encoding utf8 "$PSScriptRoot\result.new"
Move-Item "$PSScriptRoot\result.new" "$PSScriptRoot\result.json" -Force
shutdown /l
`
