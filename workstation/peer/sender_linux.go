package peer

import (
	"errors"
	"net"

	"golang.org/x/sys/unix"
)

// AskSender lets the kernel say of what is sent from now on who has sent it. It
// comes before anything that is answered.
func AskSender(c *net.UnixConn) error {
	raw, err := c.SyscallConn()
	if err != nil {
		return err
	}
	var optErr error
	err = raw.Control(func(fd uintptr) { optErr = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_PASSCRED, 1) })
	return errors.Join(err, optErr)
}

// First reads the first bytes that somebody sends, and who that is by the
// kernel's word (SCM_CREDENTIALS in unix(7)), for which [AskSender] has asked.
func First(c *net.UnixConn, buf []byte) (n, pid, uid int, err error) {
	oob := make([]byte, unix.CmsgSpace(unix.SizeofUcred))
	n, oobn, _, _, err := c.ReadMsgUnix(buf, oob)
	if err != nil {
		return n, 0, Unknown, err
	}
	messages, err := unix.ParseSocketControlMessage(oob[:oobn])
	if err != nil || len(messages) != 1 {
		return n, 0, Unknown, errors.New("the kernel does not say who has sent this")
	}
	cred, err := unix.ParseUnixCredentials(&messages[0])
	if err == nil && cred.Pid == 0 {
		err = errors.New("who has sent this is not to be seen from here")
	}
	if err != nil {
		return n, 0, Unknown, err
	}
	return n, int(cred.Pid), int(cred.Uid), nil
}
