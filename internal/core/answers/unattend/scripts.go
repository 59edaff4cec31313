package unattend

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/machine"
)

// script is a file of the seed that Windows runs. Commands stand in files of
// their own, and not in the answer file: there they would have to fit into 259
// characters and survive two kinds of quotes.
type script struct {
	name    string
	content []byte
}

// line is the command by which Windows runs the script, wherever the seed is.
func (s script) line() string {
	run := "call %d:\\" + s.name
	if strings.HasSuffix(s.name, ".ps1") {
		run = "powershell -NoProfile -ExecutionPolicy Bypass -File %d:\\" + s.name
	}
	return `cmd /d /c for %d in (D E F G H I J K L M N O P Q R S T U V W X Y Z C) do @if exist %d:\` + s.name + ` ` + run
}

// scripts are those that run before the first logon, and those at it.
func scripts(in answers.Input) (early, late []script) {
	g := in.Guest
	if text := prepare(in); text != "" {
		early = append(early, powershell("before-00.ps1", text))
	}
	if text := settle(g); text != "" {
		late = append(late, powershell("logon-00.ps1", text))
	}
	numbered := func(when string, commands []string) (all []script) {
		for i, c := range commands {
			if g.Windows.Shell == "powershell" {
				all = append(all, powershell(fmt.Sprintf("%s-%02d.ps1", when, i+1), c))
			} else {
				// 65001 is UTF-8.
				all = append(all, script{fmt.Sprintf("%s-%02d.cmd", when, i+1), []byte("@chcp 65001 >nul\r\n" + crlf(c))})
			}
		}
		return all
	}
	early = append(early, numbered("before", g.Early)...)
	late = append(late, numbered("logon", g.Commands)...)
	if len(g.Stages) > 0 {
		late = append(late, powershell("logon-97.ps1", beginStages))
	}
	if in.Home != "" {
		late = append(late, powershell("logon-98.ps1", callHome(in.Home)))
	}
	if flag := map[machine.EndAction]string{machine.EndReboot: "/r", machine.EndPowerOff: "/s"}[g.End]; flag != "" {
		late = append(late, script{"logon-99.cmd", []byte("shutdown " + flag + " /t 5\r\n")})
	}
	return early, late
}

// powershell is a script in UTF-8; Windows PowerShell takes it for that only
// with a byte order mark.
func powershell(name, text string) script { return script{name, []byte("\ufeff" + crlf(text))} }

func crlf(s string) string {
	s = strings.ReplaceAll(strings.TrimRight(s, "\r\n"), "\r\n", "\n")
	return strings.ReplaceAll(s, "\n", "\r\n") + "\r\n"
}

// Quoted is a PowerShell string that stands for just this text (about_Quoting_Rules):
// the typographic quotes count as quotes, too.
func Quoted(s string) string {
	return "'" + strings.NewReplacer("'", "''", "‘", "‘‘", "’", "’’", "‚", "‚‚", "‛", "‛‛").Replace(s) + "'"
}

// prepare does what no setting of the answer file does, before the first logon.
func prepare(in answers.Input) string {
	g := in.Guest
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	off := 0
	for _, a := range in.Adapters {
		card := fmt.Sprintf("Get-NetAdapter | Where-Object MacAddress -eq %s | ", Quoted(strings.ToUpper(strings.ReplaceAll(a.MAC, ":", "-"))))
		if a.NoIPv6 {
			off++
			line("%sDisable-NetAdapterBinding -ComponentID ms_tcpip6", card)
		}
		if a.MTU > 0 {
			line("%sSet-NetIPInterface -NlMtuBytes %d", card, a.MTU)
		}
	}
	if off > 0 && off == len(in.Adapters) {
		line(`Set-ItemProperty HKLM:\SYSTEM\CurrentControlSet\Services\Tcpip6\Parameters DisabledComponents 255 -Type DWord`)
	}
	for _, v := range g.Volumes {
		volume(line, v)
	}
	for i, f := range g.Files {
		path := strings.ReplaceAll(f.Path, "/", `\`)
		line("New-Item -ItemType Directory -Force (Split-Path %s) | Out-Null", Quoted(path))
		line("Copy-Item (Join-Path $PSScriptRoot %s) %s -Force", Quoted(fileName(i)), Quoted(path))
	}
	for i := range g.Trust {
		line("certutil -f -addstore Root (Join-Path $PSScriptRoot %s)", Quoted(trustName(i)))
	}
	if g.Proxy != "" {
		skip := strings.Join(append([]string{"<local>"}, g.NoProxy...), ";")
		line("netsh winhttp set proxy %s %s", Quoted(strings.TrimPrefix(strings.TrimPrefix(g.Proxy, "http://"), "https://")), Quoted(skip))
	}
	if len(g.NTP) > 0 {
		line("Set-Service W32Time -StartupType Automatic; Start-Service W32Time")
		line("w32tm /config /syncfromflags:manual /update %s", Quoted("/manualpeerlist:"+strings.Join(g.NTP, " ")))
	}
	if remote(g.Windows, "management") {
		line("Enable-PSRemoting -Force -SkipNetworkProfileCheck")
	}
	return b.String()
}

// volume makes a data disk ready that has nothing on it yet. It is found by the
// serial number that the site has given it.
func volume(line func(string, ...any), v machine.Volume) {
	letter := "-AssignDriveLetter"
	if v.Letter != "" {
		letter = "-DriveLetter " + strings.ToUpper(v.Letter)
	}
	line("$disk = Get-Disk | Where-Object { $_.SerialNumber -and $_.SerialNumber.Trim() -eq 'data-%d' }", v.Disk)
	line("if (-not $disk) { Write-Error 'there is no disk with the serial number data-%d' }", v.Disk)
	line("if ($disk.IsOffline) { $disk | Set-Disk -IsOffline $false }")
	line("if ($disk.IsReadOnly) { $disk | Set-Disk -IsReadOnly $false }")
	line("if ($disk.PartitionStyle -eq 'RAW') {")
	line("  $disk | Initialize-Disk -PartitionStyle GPT -PassThru | New-Partition -UseMaximumSize %s |", letter)
	line("    Format-Volume -FileSystem %s -NewFileSystemLabel %s -Confirm:$false", strings.ToUpper(string(cmp.Or(v.Filesystem, "ntfs"))), Quoted(cmp.Or(v.Label, fmt.Sprintf("data%d", v.Disk))))
	if v.Letter != "" { // also of a volume that an earlier clone has made
		letter := strings.ToUpper(v.Letter)
		line("} else {")
		line("  $volume = $disk | Get-Partition | Where-Object { $_.Type -eq 'Basic' -or $_.Type -eq 'IFS' } | Select-Object -First 1")
		line("  if ($volume -and $volume.DriveLetter -ne '%s') { $volume | Set-Partition -NewDriveLetter %s }", letter, letter)
	}
	line("}")
}

// settle says of accounts what can be said only once they are there.
func settle(g machine.Guest) string {
	var b strings.Builder
	for _, a := range g.Accounts() {
		switch a.Expire {
		case machine.SwitchOn:
			fmt.Fprintf(&b, "net user %s /logonpasswordchg:yes\n", Quoted(a.User))
		case machine.SwitchOff:
			fmt.Fprintf(&b, "Set-LocalUser -Name %s -PasswordNeverExpires $true\n", Quoted(a.User))
		}
		if a.Locked.Or(false) {
			fmt.Fprintf(&b, "Disable-LocalUser -Name %s\n", Quoted(a.User))
		}
	}
	return b.String()
}

// beginStages copies the stages to the disk and has them done by the system, at each start of
// the guest until the last is done.
const beginStages = `$here = 'C:\ProgramData\mintbatch'
New-Item -ItemType Directory -Force $here | Out-Null
icacls $here /inheritance:r /grant '*S-1-5-18:(OI)(CI)F' '*S-1-5-32-544:(OI)(CI)F' | Out-Null
Copy-Item (Join-Path $PSScriptRoot 'stage-*') $here -Force
$action = New-ScheduledTaskAction -Execute powershell.exe -Argument "-NoProfile -ExecutionPolicy Bypass -File $here\stage-all.ps1"
Register-ScheduledTask -TaskName mintbatch-stages -User 'S-1-5-18' -RunLevel Highest -Action $action -Trigger (New-ScheduledTaskTrigger -AtStartup) -Settings (New-ScheduledTaskSettingsSet -ExecutionTimeLimit 0 -AllowStartIfOnBatteries) -Force | Out-Null
Start-ScheduledTask -TaskName mintbatch-stages
`

// doStages does the stages of which the registry says that they are next.
const doStages = `$here = 'C:\ProgramData\mintbatch'
$key = 'HKLM:\SOFTWARE\mintbatch'
if (-not (Test-Path $key)) { New-Item $key -Force | Out-Null }
function Note($entry) { Add-Content -Encoding utf8 "$here\stages.jsonl" ($entry | ConvertTo-Json -Compress -Depth 3) }
function Leave {
  Unregister-ScheduledTask -TaskName mintbatch-stages -Confirm:$false
  Remove-Item $key -Recurse -Force
  Remove-Item "$here\stage-*" -Force
  exit
}
function Done($next, $stage, $code, $output, $began) {
  $state = if ($code) { 'failed' } else { 'done' }
  Note @{ name = $stage.name; state = $state; seconds = [math]::Round(((Get-Date) - $began).TotalSeconds, 1); code = $code; output = @($output | Select-Object -Last 20 | ForEach-Object { "$_" }) }
  if ($code) { Leave }
  Set-ItemProperty $key Next ($next + 1) -Type DWord
  if ($stage.restart) { shutdown /r /t 0; exit }
}
` + asLogin + `$plan = @(Get-Content -Encoding utf8 -Raw "$here\stage-plan.json" | ConvertFrom-Json | ForEach-Object { $_ })
for ($next = [int](Get-ItemProperty $key).Next; $next -lt $plan.Count; $next++) {
  $stage = $plan[$next]
  if ($stage.login) { As-Login $next $stage; continue }
  Note @{ name = $stage.name; state = 'begun' }
  $began = Get-Date
  $file = Join-Path $here $stage.script
  if ($file -like '*.ps1') { $output = & powershell -NoProfile -ExecutionPolicy Bypass -File $file 2>&1 } else { $output = & cmd /d /c $file 2>&1 }
  $code = $LASTEXITCODE
  Done $next $stage $code $output $began
}
Note @{ state = 'over' }
Leave
`

// stageFiles are the stages as the seed carries them.
func stageFiles(in answers.Input) []answers.File {
	g := in.Guest
	if len(g.Stages) == 0 {
		return nil
	}
	type step struct {
		Name    string `json:"name"`
		Script  string `json:"script"`
		Restart bool   `json:"restart"`
		Login   bool   `json:"login,omitempty"`
	}
	var plan []step
	var all []answers.File
	for i, s := range g.Stages {
		one := step{s.Name, fmt.Sprintf("stage-%02d.cmd", i+1), s.Restart.Or(false), s.As == machine.AsLogin}
		content := []byte("@chcp 65001 >nul\r\n")
		if g.Windows.Shell == "powershell" {
			one.Script = fmt.Sprintf("stage-%02d.ps1", i+1)
			content = powershell("", "$ErrorActionPreference = 'Stop'\n"+strings.Join(s.Commands, "\n")+"\nexit $LASTEXITCODE").content
		} else {
			for _, c := range s.Commands {
				content = append(content, crlf(c)...)
				content = append(content, "@if errorlevel 1 exit /b %errorlevel%\r\n"...)
			}
		}
		plan = append(plan, one)
		all = append(all, answers.File{Name: one.Script, Content: content})
	}
	order, err := json.Marshal(plan)
	if err != nil { // only names and switches
		panic(err)
	}
	if slices.ContainsFunc(plan, func(s step) bool { return s.Login }) {
		who, err := json.Marshal(map[string]string{"name": g.Login, "password": in.Secrets.Clear[g.Login]})
		if err != nil {
			panic(err)
		}
		all = append(all, answers.File{Name: "stage-login.json", Content: who}, answers.File{Name: "stage-person.ps1", Content: powershell("", doAsLogin).content})
	}
	return append(all, answers.File{Name: "stage-plan.json", Content: order}, answers.File{Name: "stage-all.ps1", Content: powershell("", doStages).content})
}

// callHome reports the machine once to the computer that made it.
func callHome(url string) string {
	return `$report = {
  $addresses = @{}
  Get-NetAdapter | ForEach-Object {
    $mac = $_.MacAddress.Replace('-', ':').ToLower()
    $addresses[$mac] = @(Get-NetIPAddress -InterfaceIndex $_.InterfaceIndex -ErrorAction SilentlyContinue | ForEach-Object { $_.IPAddress.Split('%')[0] + '/' + $_.PrefixLength })
  }
  $computer = Get-CimInstance Win32_ComputerSystem
  $fqdn = $env:COMPUTERNAME
  $domain = (Get-ItemProperty HKLM:\SYSTEM\CurrentControlSet\Services\Tcpip\Parameters).Domain
  if ($domain) { $fqdn += '.' + $domain } elseif ($computer.PartOfDomain) { $fqdn += '.' + $computer.Domain }
  @{ hostname = $env:COMPUTERNAME; fqdn = $fqdn; addresses = $addresses; logins = @(Get-LocalUser | ForEach-Object Name); timezone = (Get-TimeZone).Id; errors = @() } | ConvertTo-Json -Depth 4
}
while (Get-ScheduledTask -TaskName mintbatch-stages -ErrorAction SilentlyContinue) { Start-Sleep 1 }
for ($i = 0; $i -lt 720; $i++) {
  try {
    Invoke-WebRequest -UseBasicParsing -Method Post -ContentType 'application/json' -Body (& $report) -TimeoutSec 20 -Uri ` + Quoted(url) + ` | Out-Null
    break
  } catch {
    if ($_.Exception.Response -and [int]$_.Exception.Response.StatusCode -in 403, 410) { break }
    Start-Sleep 5
  }
}
`
}

func fileName(i int) string  { return fmt.Sprintf("file-%02d.bin", i+1) }
func trustName(i int) string { return fmt.Sprintf("trust-%02d.pem", i+1) }

// carried are the files that the scripts take from the seed.
func carried(in answers.Input) []answers.File {
	g := in.Guest
	var all []answers.File
	for i, f := range g.Files {
		all = append(all, answers.File{Name: fileName(i), Content: f.Content()})
	}
	for i, t := range g.Trust {
		all = append(all, answers.File{Name: trustName(i), Content: []byte(t)})
	}
	return append(all, stageFiles(in)...)
}
