"""What the engine is told, one file a family: commands of people, answers of boards, inputs, the service itself."""
