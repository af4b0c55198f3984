package connection

import "golang.org/x/crypto/ssh"

// The numbers of messages (RFC 4250, section 4.1.2).
const (
	numberGlobalRequest  = 80
	numberGlobalSuccess  = 81
	numberGlobalFailure  = 82
	numberOpen           = 90
	numberOpened         = 91
	numberOpenFailure    = 92
	numberAdjust         = 93
	numberData           = 94
	numberExtendedData   = 95
	numberEOF            = 96
	numberClose          = 97
	numberRequest        = 98
	numberRequestSuccess = 99
	numberRequestFailure = 100
)

// The messages of RFC 4254, as ssh.Marshal writes them.
type (
	globalRequest struct {
		Type      string `sshtype:"80"`
		WantReply bool
		Payload   []byte `ssh:"rest"`
	}
	globalSuccess struct {
		Payload []byte `sshtype:"81" ssh:"rest"`
	}
	globalFailure struct {
		Payload []byte `sshtype:"82" ssh:"rest"`
	}
	openMessage struct {
		Type   string `sshtype:"90"`
		From   uint32
		Window uint32
		Most   uint32 // bytes of one message
		Extra  []byte `ssh:"rest"`
	}
	openedMessage struct {
		To     uint32 `sshtype:"91"`
		From   uint32
		Window uint32
		Most   uint32
		Extra  []byte `ssh:"rest"`
	}
	openFailure struct {
		To       uint32 `sshtype:"92"`
		Reason   ssh.RejectionReason
		Message  string
		Language string
	}
	adjustMessage struct {
		To    uint32 `sshtype:"93"`
		Bytes uint32
	}
	eofMessage struct {
		To uint32 `sshtype:"96"`
	}
	closeMessage struct {
		To uint32 `sshtype:"97"`
	}
	requestMessage struct {
		To        uint32 `sshtype:"98"`
		Type      string
		WantReply bool
		Payload   []byte `ssh:"rest"`
	}
	requestSuccess struct {
		To uint32 `sshtype:"99"`
	}
	requestFailure struct {
		To uint32 `sshtype:"100"`
	}
)
