"""What a person does with a plan or a run: one module for each. The commands and the library's face call these."""
