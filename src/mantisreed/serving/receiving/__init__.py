"""What comes in: forms, bodies, JSON, uploads that go on; recordings on disk before they count."""
