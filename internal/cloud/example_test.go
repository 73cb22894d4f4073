package cloud_test

import (
	"errors"
	"fmt"

	"undersail/internal/cloud"
)

func ExampleClassOf() {
	err := fmt.Errorf("making gauge: %w", &cloud.Error{Class: cloud.Quota, Message: "2 vCPUs too few", Missing: 2})
	class := cloud.ClassOf(err)
	fmt.Println(class, class.Passing(), class.Refused())
	fmt.Println(cloud.ClassOf(&cloud.Error{Class: cloud.Throttled}).Passing())
	// Output:
	// quota false true
	// true
}

// What a cloud may have carried out, though its answer was lost, is no refusal: it is looked for.
func ExampleRefusal() {
	fmt.Println(cloud.Refusal(&cloud.Error{Class: cloud.Invalid}))
	fmt.Println(cloud.Refusal(&cloud.Error{Class: cloud.UnknownOutcome}))
	fmt.Println(cloud.Refusal(errors.New("connection reset")))
	// Output:
	// true
	// false
	// false
}
