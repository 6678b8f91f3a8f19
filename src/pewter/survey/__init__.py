"""Many sites: the list, the ledger, workers on this machine or on a cluster, and what it all comes to."""
