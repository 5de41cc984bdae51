"""Operation 80: electricity, wire, heat and the cautions that go with them."""
