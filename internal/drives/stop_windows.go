package drives

import (
	"slices"
	"unsafe"

	"golang.org/x/sys/windows"
)

// The configuration manager (cfgmgr32.h) knows devices as a tree: a drive hangs on the USB device that holds it, and
// that device is what gets stopped.
var (
	cfgmgr            = windows.NewLazySystemDLL("cfgmgr32.dll")
	interfaceProperty = cfgmgr.NewProc("CM_Get_Device_Interface_PropertyW")
	locateNode        = cfgmgr.NewProc("CM_Locate_DevNodeW")
	parentOf          = cfgmgr.NewProc("CM_Get_Parent")
	requestEject      = cfgmgr.NewProc("CM_Request_Device_EjectW")
)

// disksClass is GUID_DEVINTERFACE_DISK.
var disksClass = windows.GUID{Data1: 0x53f56307, Data2: 0xb6bf, Data3: 0x11d0,
	Data4: [8]byte{0x94, 0xf2, 0x00, 0xa0, 0xc9, 0x1e, 0xfb, 0x8b}}

// instanceID is DEVPKEY_Device_InstanceId.
var instanceID = windows.DEVPROPKEY{FmtID: windows.DEVPROPGUID{Data1: 0x78c34fc8, Data2: 0x104a, Data3: 0x4aca,
	Data4: [8]byte{0x9e, 0xa4, 0x52, 0x4d, 0x52, 0x99, 0x6e, 0x57}}, PID: 256}

const ioctlStorageDeviceNumber = 0x2D1080

// stop has Windows stop the device that holds a physical drive, as its Eject does. A device that holds other drives
// too, such as a reader with several cards, is left alone.
func stop(number int) bool {
	for _, p := range []*windows.LazyProc{interfaceProperty, locateNode, parentOf, requestEject} {
		if p.Find() != nil {
			return false
		}
	}
	all, err := windows.CM_Get_Device_Interface_List("", &disksClass, windows.CM_GET_DEVICE_INTERFACE_LIST_PRESENT)
	if err != nil {
		return false
	}
	var holds uint32
	var others []uint32
	for _, name := range all {
		n, holder, ok := holderOf(name)
		switch {
		case !ok:
		case n == number:
			holds = holder
		default:
			others = append(others, holder)
		}
	}
	if holds == 0 || slices.Contains(others, holds) {
		return false
	}
	var veto uint32 // PNP_VETO_TYPE
	why := make([]uint16, windows.MAX_PATH)
	r, _, _ := requestEject.Call(uintptr(holds), uintptr(unsafe.Pointer(&veto)), uintptr(unsafe.Pointer(&why[0])),
		uintptr(len(why)), 0)
	return r == 0 && veto == 0
}

// holderOf is the number of the drive that a device interface is of, and the node of the device that holds it.
func holderOf(name string) (number int, holder uint32, ok bool) {
	h, err := openAsked(name)
	if err != nil {
		return 0, 0, false
	}
	b := control(h, ioctlStorageDeviceNumber, nil) // STORAGE_DEVICE_NUMBER: type, number, partition
	_ = windows.CloseHandle(h)
	path, err := windows.UTF16PtrFromString(name)
	if len(b) < 8 || err != nil {
		return 0, 0, false
	}
	id := make([]uint16, 512)
	var kind uint32
	size := uint32(len(id) * 2)
	if r, _, _ := interfaceProperty.Call(uintptr(unsafe.Pointer(path)), uintptr(unsafe.Pointer(&instanceID)),
		uintptr(unsafe.Pointer(&kind)), uintptr(unsafe.Pointer(&id[0])), uintptr(unsafe.Pointer(&size)), 0); r != 0 {
		return 0, 0, false
	}
	var node uint32
	if r, _, _ := locateNode.Call(uintptr(unsafe.Pointer(&node)), uintptr(unsafe.Pointer(&id[0])), 0); r != 0 {
		return 0, 0, false
	}
	if r, _, _ := parentOf.Call(uintptr(unsafe.Pointer(&holder)), uintptr(node), 0); r != 0 {
		return 0, 0, false
	}
	return int(le.Uint32(b[4:])), holder, true
}
