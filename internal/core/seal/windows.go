package seal

import (
	"encoding/base64"
	"fmt"
	"slices"
	"strings"

	"mintbatch/internal/core/inspect"
)

// WindowsMark begins the script for Windows.
const WindowsMark = "# mintbatch: take the identity of this machine away, and shut it down\n"

// onWindows are the left-overs that the script for Windows cleans.
var onWindows = []string{"not-generalized", "left-answer-file", "left-windows-credentials"}

// windowsBegin is the part before anything is cleaned. Whatever fails is left where the hook's last words are, and ends the guest.
const windowsBegin = `$ErrorActionPreference = 'Stop'
$failed = Join-Path "$env:SystemDrive\" '%s'
function Stop-Here($said) {
  Set-Content -Path $failed -Value $said
  & "$env:SystemRoot\System32\shutdown.exe" /s /f /t 0
  exit 1
}
trap { Stop-Here "$_" }
`

const windowsHook = `$hook = Join-Path $env:SystemRoot 'Temp\mintbatch-seal-hook.ps1'
[IO.File]::WriteAllBytes($hook, [Convert]::FromBase64String('%s'))
$ErrorActionPreference = 'Continue'
$said = & powershell.exe -NoProfile -NonInteractive -ExecutionPolicy Bypass -File $hook 2>&1 | Select-Object -Last 20 | Out-String
$ErrorActionPreference = 'Stop'
if ($LASTEXITCODE -ne 0) { Stop-Here $said }
Remove-Item -Force $hook
`

// windowsDelete deletes files; those that are not there are gone already.
const windowsDelete = `Get-ChildItem -Path %s -Force -ErrorAction SilentlyContinue | Remove-Item -Force
`

// windowsEnd generalizes the system by its own means. The answer file that it is given is kept by Windows, and would stand in the way
// of those of clones: it is deleted before the guest is shut down.
const windowsEnd = `$answers = Join-Path $env:SystemRoot 'Temp\mintbatch-seal.xml'
Set-Content -Encoding utf8 -Path $answers -Value @'
<?xml version="1.0" encoding="utf-8"?>
<unattend xmlns="urn:schemas-microsoft-com:unattend">
  <settings pass="generalize">
    <component name="Microsoft-Windows-PnpSysprep" processorArchitecture="ARCHITECTURE" publicKeyToken="31bf3856ad364e35" language="neutral" versionScope="nonSxS">
      <PersistAllDeviceInstalls>false</PersistAllDeviceInstalls>
    </component>
  </settings>
</unattend>
'@.Replace('ARCHITECTURE', $env:PROCESSOR_ARCHITECTURE.ToLower())
$sysprep = Start-Process -PassThru -Wait -FilePath "$env:SystemRoot\System32\Sysprep\sysprep.exe" -ArgumentList '/generalize', '/oobe', '/quit', '/quiet', "/unattend:$answers"
$state = (Get-ItemProperty 'HKLM:\SOFTWARE\Microsoft\Windows\CurrentVersion\Setup\State').ImageState
if ($state -ne 'IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE') {
  $log = Get-Content "$env:SystemRoot\System32\Sysprep\Panther\setuperr.log" -ErrorAction SilentlyContinue | Select-Object -Last 20 | Out-String
  Stop-Here "sysprep has ended with $($sysprep.ExitCode), and the system is $state. $log"
}
Get-ChildItem -Path $answers, "$env:SystemRoot\Panther\unattend.xml", "$env:SystemRoot\Panther\Unattend\*.xml", "$env:SystemRoot\System32\Sysprep\Panther\unattend.xml" -Force -ErrorAction SilentlyContinue | Remove-Item -Force
& "$env:SystemRoot\System32\shutdown.exe" /s /f /t 0
`

// WindowsScript is what is run in a Windows guest, by PowerShell and as its system. It ends by shutting the machine down.
func WindowsScript(o Order) string {
	var b strings.Builder
	b.WriteString(WindowsMark)
	fmt.Fprintf(&b, windowsBegin, strings.TrimPrefix(Failed, "/"))
	if len(o.Hook) > 0 {
		fmt.Fprintf(&b, windowsHook, base64.StdEncoding.EncodeToString(o.Hook))
	}
	for _, c := range inspect.Checks {
		if !slices.Contains(onWindows, c.Code) || slices.Contains(o.Keep, strings.TrimPrefix(c.Code, "left-")) {
			continue
		}
		paths, _ := c.Files()
		for _, p := range paths {
			fmt.Fprintf(&b, windowsDelete, `"$env:SystemDrive`+strings.ReplaceAll(p, "/", `\`)+`"`)
		}
	}
	b.WriteString(windowsEnd)
	return b.String()
}
