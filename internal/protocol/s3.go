package protocol

import (
	"bytes"
	"strings"

	"nimbleharbor/internal/expr"
)

// s3 is the HTTP API of object stores: whoever asks without a signature gets an error in XML, or
// the list of buckets.
var s3 = &Protocol{
	Name:     "s3",
	Ports:    []int{4566},
	Programs: []string{"minio"},
	Drivers: []string{"@aws-sdk/client-s3", "boto3", "minio", "aws-sdk-s3",
		"github.com/minio/minio-go/v7", "AWSSDK.S3"},
	Scheme:   "http",
	images:   expr.New(`^(minio|localstack|seaweedfs|garage)$`),
	keys:     expr.New(`(?i)(^|[_.-])(s3|minio|aws)`),
	ask:      func(t *talk) answer { return t.askNamed("s3", isStore) },
	relative: "http",
}

func isStore(a *answer) bool {
	return bytes.Contains(a.body, []byte("<ListAllMyBucketsResult")) ||
		bytes.Contains(a.body, []byte("<Error>")) && bytes.Contains(a.body, []byte("<Code>")) ||
		strings.EqualFold(a.header.Get("Server"), "minio")
}
