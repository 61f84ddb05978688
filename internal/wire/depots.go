package wire

// Depot is a depot.
type Depot struct {
	Name string `json:"name"`
}

// Entry is one name in a folder of a depot.
type Entry struct {
	Name   string `json:"name"`
	Folder bool   `json:"folder"`
	Size   int64  `json:"size"`
}

// ListFolderRequest names a folder.
type ListFolderRequest struct {
	Depot string `path:"depot"`
	Path  string `query:"path" maxLength:"4096"`
}
