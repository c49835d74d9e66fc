//go:build linux

// Package cutfs is a file system for tests that notes, in order, all that is done to it.
// What a disk could hold after a power cut at any of these moments can be made of that:
// what was synced is there, and of what was not any part.
package cutfs

import (
	"bytes"
	"context"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
	"golang.org/x/sys/unix"

	"timegate/workstation/wstest"
)

// Disk is a mounted file system.
type Disk struct {
	Dir string // where it is mounted

	mu  sync.Mutex // guards what follows, and keeps changes in their order
	ops []op
}

// file tells one file from every other, also from a later one that has its number.
type file struct{ ino, gen uint64 }

// kind is what was done.
type kind int

const (
	made    kind = iota // name in folder is file, with mode and, for a link, data as target
	removed             // name in folder
	moved               // name in folder to other in place
	moded               // file has mode
	wrote               // data at offset of file
	cut                 // file has offset bytes
	synced              // what was written to file is on the disk
	settled             // what was done to folders is on the disk
)

type op struct {
	kind          kind
	at            time.Time
	file          file
	folder, place file
	name, other   string
	mode          uint32
	offset        int64
	data          []byte
}

// Mount mounts a new file system. A machine that cannot do that skips the test.
func Mount(t *testing.T) *Disk {
	t.Helper()
	wstest.Root(t)
	if known, err := os.ReadFile("/proc/filesystems"); err != nil || !bytes.Contains(known, []byte("\tfuse\n")) {
		t.Skip("this kernel lets no program have a file system of its own")
	}
	if unix.Access("/dev/fuse", unix.R_OK|unix.W_OK) != nil {
		wstest.Skip(t, "needs the device /dev/fuse")
	}
	d := &Disk{Dir: t.TempDir()}
	below := t.TempDir()
	var st syscall.Stat_t
	if err := syscall.Stat(below, &st); err != nil {
		t.Fatal(err)
	}
	root := &fs.LoopbackRoot{Path: below, Dev: st.Dev}
	top := &node{&fs.LoopbackNode{RootData: root}, d}
	root.RootNode = top
	server, err := fs.Mount(d.Dir, top, &fs.Options{MountOptions: fuse.MountOptions{DirectMountStrict: true, AllowOther: true, Name: "cutfs"}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		syscall.Unmount(d.Dir, syscall.MNT_DETACH)
		server.Unmount()
	})
	return d
}

// Moments returns how many things were done so far.
func (d *Disk) Moments() int {
	d.mu.Lock()
	defer d.mu.Unlock()
	return len(d.ops)
}

// Time returns when a thing was done.
func (d *Disk) Time(moment int) time.Time {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.ops[moment].at
}

// do does something, and notes it if it was done.
func (d *Disk) do(does func() syscall.Errno, note func() op) syscall.Errno {
	d.mu.Lock()
	defer d.mu.Unlock()
	errno := does()
	if errno == fs.OK {
		o := note()
		o.at = time.Now()
		d.ops = append(d.ops, o)
	}
	return errno
}

// node is a file or a folder.
type node struct {
	*fs.LoopbackNode
	disk *Disk
}

// WrapChild implements [fs.NodeWrapChilder].
func (n *node) WrapChild(_ context.Context, ops fs.InodeEmbedder) fs.InodeEmbedder {
	return &node{ops.(*fs.LoopbackNode), n.disk}
}

// root stands for the folder at the top, whose number may be anything.
var root = file{}

func (n *node) is() file {
	if n.IsRoot() {
		return root
	}
	return fileOf(n.EmbeddedInode())
}

func fileOf(i *fs.Inode) file { a := i.StableAttr(); return file{a.Ino, a.Gen} }

func (n *node) Create(ctx context.Context, name string, flags, mode uint32, out *fuse.EntryOut) (child *fs.Inode, h fs.FileHandle, ff uint32, errno syscall.Errno) {
	errno = n.disk.do(func() syscall.Errno {
		child, h, ff, errno = n.LoopbackNode.Create(ctx, name, flags, mode, out)
		return errno
	}, func() op { return op{kind: made, file: fileOf(child), folder: n.is(), name: name, mode: out.Mode} })
	return child, hidden(h), ff, errno
}

// handle hides that the kernel could write past this process.
type handle struct{ *fs.LoopbackFile }

// PassthroughFd returns no file that the kernel could write to by itself.
func (handle) PassthroughFd() (int, bool) { return 0, false }

func hidden(h fs.FileHandle) fs.FileHandle {
	if f, ok := h.(*fs.LoopbackFile); ok {
		return handle{f}
	}
	return h
}

func (n *node) Open(ctx context.Context, flags uint32) (fs.FileHandle, uint32, syscall.Errno) {
	h, ff, errno := n.LoopbackNode.Open(ctx, flags)
	return hidden(h), ff, errno
}

// folderHandle notes that a folder is synced.
type folderHandle struct {
	fs.FileHandle
	fs.FileReaddirenter
	fs.FileSeekdirer
	fs.FileReleasedirer
	disk *Disk
}

// Fsyncdir implements [fs.FileFsyncdirer].
func (h folderHandle) Fsyncdir(context.Context, uint32) syscall.Errno {
	return h.disk.do(func() syscall.Errno { return fs.OK }, func() op { return op{kind: settled} })
}

func (n *node) OpendirHandle(ctx context.Context, flags uint32) (fs.FileHandle, uint32, syscall.Errno) {
	h, ff, errno := n.LoopbackNode.OpendirHandle(ctx, flags)
	if errno != fs.OK {
		return h, ff, errno
	}
	return folderHandle{h, h.(fs.FileReaddirenter), h.(fs.FileSeekdirer), h.(fs.FileReleasedirer), n.disk}, ff, errno
}

func (n *node) Mkdir(ctx context.Context, name string, mode uint32, out *fuse.EntryOut) (child *fs.Inode, errno syscall.Errno) {
	errno = n.disk.do(func() syscall.Errno {
		child, errno = n.LoopbackNode.Mkdir(ctx, name, mode, out)
		return errno
	}, func() op {
		return op{kind: made, file: fileOf(child), folder: n.is(), name: name, mode: syscall.S_IFDIR | mode&0o7777}
	})
	return child, errno
}

func (n *node) Mknod(ctx context.Context, name string, mode, dev uint32, out *fuse.EntryOut) (child *fs.Inode, errno syscall.Errno) {
	errno = n.disk.do(func() syscall.Errno {
		child, errno = n.LoopbackNode.Mknod(ctx, name, mode, dev, out)
		return errno
	}, func() op { return op{kind: made, file: fileOf(child), folder: n.is(), name: name, mode: mode} })
	return child, errno
}

func (n *node) Symlink(ctx context.Context, target, name string, out *fuse.EntryOut) (child *fs.Inode, errno syscall.Errno) {
	errno = n.disk.do(func() syscall.Errno {
		child, errno = n.LoopbackNode.Symlink(ctx, target, name, out)
		return errno
	}, func() op {
		return op{kind: made, file: fileOf(child), folder: n.is(), name: name, mode: syscall.S_IFLNK, data: []byte(target)}
	})
	return child, errno
}

func (n *node) Link(ctx context.Context, target fs.InodeEmbedder, name string, out *fuse.EntryOut) (child *fs.Inode, errno syscall.Errno) {
	errno = n.disk.do(func() syscall.Errno {
		child, errno = n.LoopbackNode.Link(ctx, target, name, out)
		return errno
	}, func() op {
		return op{kind: made, file: fileOf(target.EmbeddedInode()), folder: n.is(), name: name, mode: out.Mode}
	})
	return child, errno
}

func (n *node) Unlink(ctx context.Context, name string) syscall.Errno {
	return n.disk.do(func() syscall.Errno { return n.LoopbackNode.Unlink(ctx, name) }, func() op { return op{kind: removed, folder: n.is(), name: name} })
}

func (n *node) Rmdir(ctx context.Context, name string) syscall.Errno {
	return n.disk.do(func() syscall.Errno { return n.LoopbackNode.Rmdir(ctx, name) }, func() op { return op{kind: removed, folder: n.is(), name: name} })
}

func (n *node) Rename(ctx context.Context, name string, to fs.InodeEmbedder, newName string, flags uint32) syscall.Errno {
	if flags&^unix.RENAME_NOREPLACE != 0 {
		return syscall.EINVAL // nothing here exchanges two files
	}
	return n.disk.do(func() syscall.Errno { return n.LoopbackNode.Rename(ctx, name, to, newName, flags) }, func() op {
		return op{kind: moved, folder: n.is(), name: name, place: to.(*node).is(), other: newName}
	})
}

// Tmpfile is not to be had: a file without a name would be noted without one.
func (n *node) Tmpfile(context.Context, uint32, uint32, *fuse.EntryOut) (*fs.Inode, fs.FileHandle, uint32, syscall.Errno) {
	return nil, nil, 0, syscall.EOPNOTSUPP
}

// CopyFileRange is not to be had: what is copied is written.
func (n *node) CopyFileRange(context.Context, fs.FileHandle, uint64, *fs.Inode, fs.FileHandle, uint64, uint64, uint64) (uint32, syscall.Errno) {
	return 0, syscall.EOPNOTSUPP
}

func (n *node) Setattr(ctx context.Context, h fs.FileHandle, in *fuse.SetAttrIn, out *fuse.AttrOut) syscall.Errno {
	size, sized := in.GetSize()
	mode, isMode := in.GetMode()
	errno := n.disk.do(func() syscall.Errno { return n.LoopbackNode.Setattr(ctx, h, in, out) }, func() op {
		if sized {
			return op{kind: cut, file: n.is(), offset: int64(size)}
		}
		if isMode {
			return op{kind: moded, file: n.is(), mode: mode}
		}
		return op{kind: wrote, file: n.is()} // times: nothing of it is in a file
	})
	return errno
}

func (n *node) Write(ctx context.Context, h fs.FileHandle, data []byte, off int64) (written uint32, errno syscall.Errno) {
	errno = n.disk.do(func() syscall.Errno {
		written, errno = h.(fs.FileWriter).Write(ctx, data, off)
		return errno
	}, func() op { return op{kind: wrote, file: n.is(), offset: off, data: bytes.Clone(data[:written])} })
	return written, errno
}

func (n *node) Allocate(ctx context.Context, h fs.FileHandle, off, size uint64, mode uint32) syscall.Errno {
	return syscall.EOPNOTSUPP
}

func (n *node) Fsync(ctx context.Context, h fs.FileHandle, flags uint32) syscall.Errno {
	return n.disk.do(func() syscall.Errno { return fs.OK }, func() op { return op{kind: synced, file: n.is()} })
}

// A Cut is what a disk holds after a power cut.
type Cut struct {
	ops   []op // that were done before
	inode map[file]*content
	tree  map[file]map[string]file // what is in each folder
}

type content struct {
	mode uint32
	data []byte
}

// Cut returns what a disk could hold if the power were cut before a moment. Of what was
// done to folders a beginning is there, as on file systems that keep a log of it, at least
// up to the last of them that was synced. Of what was written to a file since it was
// synced last there is nothing, all, a beginning, or some blocks.
func (d *Disk) Cut(moment int, r *rand.Rand) *Cut {
	d.mu.Lock()
	c := &Cut{ops: d.ops[:moment:moment]}
	d.mu.Unlock()
	least := 0
	last := map[file]int{}
	for i, o := range c.ops {
		switch o.kind {
		case settled:
			least = i
		case synced:
			last[o.file] = i
		}
	}
	c.lay(least + r.IntN(moment-least+1))
	kept := map[file]int{} // up to where all that was written to a file is there
	blocks := map[file]bool{}
	for i, o := range c.ops {
		if o.kind != wrote && o.kind != cut {
			continue
		}
		end, there := kept[o.file]
		if !there {
			switch end = last[o.file]; r.IntN(4) {
			case 0:
			case 1:
				end = moment
			case 2:
				end += r.IntN(moment - end + 1)
			case 3:
				blocks[o.file] = true
			}
			kept[o.file] = end
		}
		switch {
		case i < end:
			c.write(o)
		case blocks[o.file]:
			c.writeSome(o, r)
		}
	}
	return c
}

// Whole returns what the disk held before a moment, for all that was done to it.
func (d *Disk) Whole(moment int) *Cut {
	d.mu.Lock()
	c := &Cut{ops: d.ops[:moment:moment]}
	d.mu.Unlock()
	c.lay(moment)
	for _, o := range c.ops {
		c.write(o)
	}
	return c
}

// lay does what was done to folders before a moment.
func (c *Cut) lay(moment int) {
	c.inode = map[file]*content{}
	c.tree = map[file]map[string]file{root: {}}
	for _, o := range c.ops[:moment] {
		switch o.kind {
		case made:
			if c.inode[o.file] == nil {
				c.inode[o.file] = &content{mode: o.mode, data: bytes.Clone(o.data)}
			}
			if o.mode&syscall.S_IFMT == syscall.S_IFDIR {
				c.tree[o.file] = map[string]file{}
			}
			c.tree[o.folder][o.name] = o.file
		case removed:
			delete(c.tree[o.folder], o.name)
		case moved:
			c.tree[o.place][o.other] = c.tree[o.folder][o.name]
			delete(c.tree[o.folder], o.name)
		case moded:
			if f := c.inode[o.file]; f != nil {
				f.mode = f.mode&syscall.S_IFMT | o.mode&0o7777
			}
		}
	}
}

// write does what was done to a file.
func (c *Cut) write(o op) {
	f := c.inode[o.file]
	if f == nil {
		return // it was never made, as far as this disk knows
	}
	switch o.kind {
	case cut:
		f.data = sized(f.data, o.offset)
	case wrote:
		if end := o.offset + int64(len(o.data)); end > int64(len(f.data)) {
			f.data = sized(f.data, end)
		}
		copy(f.data[o.offset:], o.data)
	}
}

// writeSome does it for some blocks.
func (c *Cut) writeSome(o op, r *rand.Rand) {
	const block = 4096
	if o.kind == cut {
		return
	}
	for from := 0; from < len(o.data); {
		to := min(len(o.data), from+block-int((o.offset+int64(from))%block))
		if r.IntN(2) == 0 {
			c.write(op{kind: wrote, file: o.file, offset: o.offset + int64(from), data: o.data[from:to]})
		}
		from = to
	}
}

// sized gives data a size; what is new is zero.
func sized(data []byte, size int64) []byte {
	if size <= int64(len(data)) {
		return slices.Clone(data[:size])
	}
	return append(data, make([]byte, size-int64(len(data)))...)
}

// Write writes the disk into a folder.
func (c *Cut) Write(dir string) error { return c.writeFolder(root, dir) }

func (c *Cut) writeFolder(folder file, dir string) error {
	for name, of := range c.tree[folder] {
		f, path := c.inode[of], filepath.Join(dir, name)
		var err error
		switch f.mode & syscall.S_IFMT {
		case syscall.S_IFDIR:
			if err = os.Mkdir(path, 0o700); err == nil {
				err = c.writeFolder(of, path)
			}
		case syscall.S_IFLNK:
			if err := os.Symlink(string(f.data), path); err != nil {
				return err
			}
			continue
		case syscall.S_IFREG:
			err = os.WriteFile(path, f.data, 0o600)
		default:
			continue // a socket is nobody's any more
		}
		if err == nil {
			err = os.Chmod(path, os.FileMode(f.mode&0o777))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Files returns the files of a folder, by name, and what is in them.
func (c *Cut) Files(dir string) map[string]string {
	folder := root
	for name := range strings.FieldsFuncSeq(dir, func(r rune) bool { return r == 0x2f }) {
		next, ok := c.tree[folder][name]
		if !ok {
			return nil
		}
		folder = next
	}
	out := map[string]string{}
	for name, of := range c.tree[folder] {
		if f := c.inode[of]; f.mode&syscall.S_IFMT == syscall.S_IFREG {
			out[name] = string(f.data)
		}
	}
	return out
}

// Ever returns all that files of a folder ever held which were put there with names that
// end so.
func (d *Disk) Ever(dir, ending string) map[string]bool {
	out := map[string]bool{}
	for i := range d.Moments() {
		if o := d.ops[i]; o.kind != moved || !strings.HasSuffix(o.other, ending) {
			continue
		}
		for name, text := range d.Whole(i + 1).Files(dir) {
			if strings.HasSuffix(name, ending) {
				out[text] = true
			}
		}
	}
	return out
}
