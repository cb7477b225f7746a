package instrument

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"strconv"

	"wexter/core/record"
)

// Listen opens an address of this computer for an instrument. Port 0 takes a free one of
// those at which instruments of this computer answer; any other must be one of them.
func Listen(address string) (net.Listener, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	n, err := strconv.Atoi(port)
	if err != nil || n != 0 && !record.OwnPort(n) {
		return nil, fmt.Errorf("instruments of this computer answer at ports %d to %d, not at %s", record.FirstPort, record.LastPort, port)
	}
	if n != 0 {
		return net.Listen("tcp", address)
	}
	// From anywhere in the row, so that several who look at once do not get in each other's way.
	ports := record.LastPort - record.FirstPort + 1
	from := rand.IntN(ports)
	for i := range ports {
		var l net.Listener
		if l, err = net.Listen("tcp", net.JoinHostPort(host, strconv.Itoa(record.FirstPort+(from+i)%ports))); err == nil {
			return l, nil
		}
	}
	return nil, errors.Join(fmt.Errorf("no port from %d to %d is free", record.FirstPort, record.LastPort), err)
}
