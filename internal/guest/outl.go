//go:build amd64

package guest

// outl writes to a port of the machine: the one that ends it.
func outl(port uint16, v uint32)
