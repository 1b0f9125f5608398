package client

// Keys calls the control endpoints of keys, preview links and what is open to everyone. It is
// safe for concurrent use.
type Keys struct{ c *Client }

// Keys returns the calls for keys, preview links and what is open to everyone.
func (c *Client) Keys() *Keys { return &Keys{c} }

// Accounts calls the control endpoints of accounts and the audit log. It is safe for concurrent
// use.
type Accounts struct{ c *Client }

// Accounts returns the calls for accounts and the audit log.
func (c *Client) Accounts() *Accounts { return &Accounts{c} }

// Cache calls the control endpoints of what the nodes keep in their caches, and the nodes. It
// is safe for concurrent use.
type Cache struct{ c *Client }

// Cache returns the calls for what the nodes keep in their caches, and the nodes.
func (c *Client) Cache() *Cache { return &Cache{c} }

// Entries calls the control endpoints of entries, schedules, changes, import and export. It is
// safe for concurrent use.
type Entries struct{ c *Client }

// Entries returns the calls for entries, schedules, changes, import and export.
func (c *Client) Entries() *Entries { return &Entries{c} }

// Models calls the control endpoints of the model. It is safe for concurrent use.
type Models struct{ c *Client }

// Models returns the calls for the model.
func (c *Client) Models() *Models { return &Models{c} }

// Origins calls the control endpoints of origins and their events. It is safe for concurrent use.
type Origins struct{ c *Client }

// Origins returns the calls for origins and their events.
func (c *Client) Origins() *Origins { return &Origins{c} }

// Builds calls the control endpoints of builds of sites. It is safe for concurrent use.
type Builds struct{ c *Client }

// Builds returns the calls for builds of sites.
func (c *Client) Builds() *Builds { return &Builds{c} }

// Reads calls the control endpoints of examined and saved reads, and trusted documents. It is
// safe for concurrent use.
type Reads struct{ c *Client }

// Reads returns the calls for examined and saved reads, and trusted documents.
func (c *Client) Reads() *Reads { return &Reads{c} }
