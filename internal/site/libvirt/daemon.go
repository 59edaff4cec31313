package libvirt

import (
	"io"

	rpc "github.com/digitalocean/go-libvirt"
)

// daemon is all that this package asks of a libvirt daemon, over a connection to it.
type daemon interface {
	IsConnected() bool
	Disconnect() error

	ConnectGetAllDomainStats(doms []rpc.Domain, stats uint32, flags uint32) (rRetStats []rpc.DomainStatsRecord, err error)
	ConnectGetCapabilities() (rCapabilities string, err error)
	ConnectGetDomainCapabilities(emulatorbin rpc.OptString, arch rpc.OptString, machine rpc.OptString, virttype rpc.OptString, flags rpc.ConnectGetDomainCapabilitiesFlags) (rCapabilities string, err error)
	ConnectListAllInterfaces(needResults int32, flags rpc.ConnectListAllInterfacesFlags) (rIfaces []rpc.Interface, rRet uint32, err error)
	ConnectListAllNetworks(needResults int32, flags rpc.ConnectListAllNetworksFlags) (rNets []rpc.Network, rRet uint32, err error)
	ConnectListAllStoragePools(needResults int32, flags rpc.ConnectListAllStoragePoolsFlags) (rPools []rpc.StoragePool, rRet uint32, err error)
	DomainAttachDeviceFlags(dom rpc.Domain, xML string, flags uint32) (err error)
	DomainBlockPull(dom rpc.Domain, path string, bandwidth uint64, flags rpc.DomainBlockPullFlags) (err error)
	DomainBlockResize(dom rpc.Domain, disk string, size uint64, flags rpc.DomainBlockResizeFlags) (err error)
	DomainCreateWithFlags(dom rpc.Domain, flags uint32) (rDom rpc.Domain, err error)
	DomainDefineXMLFlags(xML string, flags rpc.DomainDefineFlags) (rDom rpc.Domain, err error)
	DomainDestroyFlags(dom rpc.Domain, flags rpc.DomainDestroyFlagsValues) (err error)
	DomainDetachDeviceFlags(dom rpc.Domain, xML string, flags uint32) (err error)
	DomainGetBlockJobInfo(dom rpc.Domain, path string, flags uint32) (rFound int32, rType int32, rBandwidth uint64, rCur uint64, rEnd uint64, err error)
	DomainGetState(dom rpc.Domain, flags uint32) (rState int32, rReason int32, err error)
	DomainListAllSnapshots(dom rpc.Domain, needResults int32, flags uint32) (rSnapshots []rpc.DomainSnapshot, rRet int32, err error)
	DomainGetXMLDesc(dom rpc.Domain, flags rpc.DomainXMLFlags) (rXML string, err error)
	DomainLookupByName(name string) (rDom rpc.Domain, err error)
	DomainLookupByUUID(uUID rpc.UUID) (rDom rpc.Domain, err error)
	DomainOpenConsoleBidirectional(dom rpc.Domain, devName rpc.OptString, outStream io.Reader, inStream io.Writer, flags uint32) (err error)
	DomainScreenshot(dom rpc.Domain, inStream io.Writer, screen uint32, flags uint32) (rMime rpc.OptString, err error)
	DomainRevertToSnapshot(snap rpc.DomainSnapshot, flags uint32) (err error)
	DomainSetMetadata(dom rpc.Domain, kind int32, metadata rpc.OptString, key rpc.OptString, uri rpc.OptString, flags rpc.DomainModificationImpact) (err error)
	DomainShutdownFlags(dom rpc.Domain, flags rpc.DomainShutdownFlagValues) (err error)
	DomainSnapshotCreateXML(dom rpc.Domain, xMLDesc string, flags uint32) (rSnap rpc.DomainSnapshot, err error)
	DomainRename(dom rpc.Domain, newName rpc.OptString, flags uint32) (rRetcode int32, err error)
	DomainSnapshotDelete(snap rpc.DomainSnapshot, flags rpc.DomainSnapshotDeleteFlags) (err error)
	DomainSnapshotGetXMLDesc(snap rpc.DomainSnapshot, flags uint32) (rXML string, err error)
	DomainSnapshotNum(dom rpc.Domain, flags uint32) (rNum int32, err error)
	DomainUndefineFlags(dom rpc.Domain, flags rpc.DomainUndefineFlagsValues) (err error)
	DomainUpdateDeviceFlags(dom rpc.Domain, xML string, flags rpc.DomainDeviceModifyFlags) (err error)
	InterfaceGetXMLDesc(iface rpc.Interface, flags uint32) (rXML string, err error)
	NetworkGetDhcpLeases(net rpc.Network, mac rpc.OptString, needResults int32, flags uint32) (rLeases []rpc.NetworkDhcpLease, rRet uint32, err error)
	NetworkGetXMLDesc(net rpc.Network, flags uint32) (rXML string, err error)
	NetworkIsActive(net rpc.Network) (rActive int32, err error)
	NetworkIsPersistent(net rpc.Network) (rPersistent int32, err error)
	NetworkLookupByName(name string) (rNet rpc.Network, err error)
	NetworkUpdateCompat(net rpc.Network, command rpc.NetworkUpdateCommand, section rpc.NetworkUpdateSection, parentIndex int32, xML string, flags rpc.NetworkUpdateFlags) (err error)
	NodeGetInfo() (rModel [32]int8, rMemory uint64, rCpus int32, rMhz int32, rNodes int32, rSockets int32, rCores int32, rThreads int32, err error)
	NodeGetMemoryStats(nparams int32, cellNum int32, flags uint32) (rParams []rpc.NodeGetMemoryStats, rNparams int32, err error)
	QEMUDomainAgentCommand(dom rpc.Domain, cmd string, timeout int32, flags uint32) (rResult rpc.OptString, err error)
	StoragePoolGetXMLDesc(pool rpc.StoragePool, flags rpc.StorageXMLFlags) (rXML string, err error)
	StoragePoolIsActive(pool rpc.StoragePool) (rActive int32, err error)
	StoragePoolListAllVolumes(pool rpc.StoragePool, needResults int32, flags uint32) (rVols []rpc.StorageVol, rRet uint32, err error)
	StoragePoolLookupByName(name string) (rPool rpc.StoragePool, err error)
	StoragePoolLookupByVolume(vol rpc.StorageVol) (rPool rpc.StoragePool, err error)
	StoragePoolRefresh(pool rpc.StoragePool, flags uint32) (err error)
	StorageVolCreateXML(pool rpc.StoragePool, xML string, flags rpc.StorageVolCreateFlags) (rVol rpc.StorageVol, err error)
	StorageVolCreateXMLFrom(pool rpc.StoragePool, xML string, clonevol rpc.StorageVol, flags rpc.StorageVolCreateFlags) (rVol rpc.StorageVol, err error)
	StorageVolDelete(vol rpc.StorageVol, flags rpc.StorageVolDeleteFlags) (err error)
	StorageVolDownload(vol rpc.StorageVol, inStream io.Writer, offset uint64, length uint64, flags rpc.StorageVolDownloadFlags) (err error)
	StorageVolGetInfo(vol rpc.StorageVol) (rType int8, rCapacity uint64, rAllocation uint64, err error)
	StorageVolGetXMLDesc(vol rpc.StorageVol, flags uint32) (rXML string, err error)
	StorageVolLookupByName(pool rpc.StoragePool, name string) (rVol rpc.StorageVol, err error)
	StorageVolLookupByPath(path string) (rVol rpc.StorageVol, err error)
	StorageVolResize(vol rpc.StorageVol, capacity uint64, flags rpc.StorageVolResizeFlags) (err error)
	StorageVolUpload(vol rpc.StorageVol, outStream io.Reader, offset uint64, length uint64, flags rpc.StorageVolUploadFlags) (err error)
}

var _ daemon = (*rpc.Libvirt)(nil)
