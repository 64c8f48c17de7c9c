package mariadb

import (
	"crypto/rsa"
	"crypto/sha512"
	"math/big"

	"github.com/go-sql-driver/mysql"
)

// nobodys is the name of a public key of which nobody has the private half. Servers that want the password encrypted
// (the plugins sha256_password and caching_sha2_password) show a key of their own for it, and so does whoever answers
// in their place: what is sent under this one opens for neither.
const nobodys = "tivset: nobody's"

func init() {
	// a number of 2048 bits that comes of a text: nobody chose its factors
	var bits []byte
	for n := byte(0); len(bits) < 256; n++ {
		sum := sha512.Sum512(append([]byte(nobodys), n))
		bits = append(bits, sum[:]...)
	}
	bits[0] |= 0x80
	bits[255] |= 1
	mysql.RegisterServerPubKey(nobodys, &rsa.PublicKey{N: new(big.Int).SetBytes(bits), E: 65537})
}
