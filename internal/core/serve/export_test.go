package serve

import "polytome/internal/nbd"

// Report takes in a read as the network's server reports it.
func (s *Server) Report(r nbd.Reading) { s.read(r) }
