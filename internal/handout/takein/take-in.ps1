# Takes in the machines that are in this folder: checks every file, then makes a machine of the hypervisor of Windows of each, where it is. Where
# there is none, says what to open.
#
#   powershell -ExecutionPolicy Bypass -File take-in.ps1                 all machines
#   powershell -ExecutionPolicy Bypass -File take-in.ps1 NAME NAME       some of them
#   powershell -ExecutionPolicy Bypass -File take-in.ps1 -Check          only check the files
#   powershell -ExecutionPolicy Bypass -File take-in.ps1 -Unchecked      do not check them: machines that have run are not as they were handed out
param([switch]$Check, [switch]$Unchecked, [Parameter(ValueFromRemainingArguments = $true)][string[]]$Names)
$ErrorActionPreference = 'Stop'
$here = Split-Path -Parent $MyInvocation.MyCommand.Path
$handout = Get-Content -LiteralPath (Join-Path $here 'handout.json') -Raw -Encoding UTF8 | ConvertFrom-Json

$bad = 0
$files = $handout.files
if ($Unchecked) { $files = @() } else { Write-Output "Checking the files in $here" }
foreach ($file in $files) {
	$path = Join-Path $here $file.name
	if (-not (Test-Path -LiteralPath $path)) {
		Write-Output "$($file.name): missing"
		$bad++
	} elseif ((Get-FileHash -LiteralPath $path -Algorithm SHA256).Hash -ne $file.sha256) {
		Write-Output "$($file.name): not as it was handed out"
		$bad++
	}
}
if ($bad -gt 0) { exit 1 }
if ($Check) {
	Write-Output 'All files are as they were handed out.'
	exit 0
}

$hypervisor = $null -ne (Get-Command New-VM -ErrorAction SilentlyContinue)
foreach ($m in $handout.machines) {
	if ($Names -and $Names -notcontains $m.name) { continue }
	$folder = Join-Path $here $m.folder
	$disks = @($m.disks | ForEach-Object { Join-Path $folder $_ })
	if ($hypervisor -and $disks[0] -match '\.vhdx?$') {
		if (Get-VM -Name $m.name -ErrorAction SilentlyContinue) {
			Write-Output "$($m.name): there is a machine of this name already"
			continue
		}
		$generation = 1
		if ($m.firmware -eq 'uefi' -and $disks[0] -match '\.vhdx$') { $generation = 2 }
		$vm = New-VM -Name $m.name -Generation $generation -MemoryStartupBytes ([int64]$m.memory) -VHDPath $disks[0] -Path $folder
		Set-VMProcessor -VM $vm -Count $m.cpus
		foreach ($disk in ($disks | Select-Object -Skip 1)) { Add-VMHardDiskDrive -VM $vm -Path $disk }
		foreach ($image in $m.images) { Add-VMDvdDrive -VM $vm -Path (Join-Path $folder $image) }
		Get-VMNetworkAdapter -VM $vm | Remove-VMNetworkAdapter
		foreach ($card in $m.cards) {
			Add-VMNetworkAdapter -VM $vm -StaticMacAddress ($card.mac -replace ':', '')
			if (Get-VMSwitch -Name $card.network -ErrorAction SilentlyContinue) {
				Get-VMNetworkAdapter -VM $vm | Where-Object { -not $_.Connected } | Select-Object -Last 1 | Connect-VMNetworkAdapter -SwitchName $card.network
			} else {
				Write-Output "$($m.name): there is no switch $($card.network); connect its adapter by hand"
			}
		}
		Write-Output "$($m.name): start it with: Start-VM '$($m.name)'"
	} elseif ($m.ovf) {
		Write-Output "$($m.name): open $(Join-Path $folder $m.ovf) with your hypervisor"
	} else {
		Write-Output "$($m.name): its disks are in $folder"
	}
}
