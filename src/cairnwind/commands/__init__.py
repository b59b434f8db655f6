"""The table of commands: each is declared once, in a file of its family, and every surface that carries text is made from that.

A declaration says what a command carries (fields, each with its meaning and its bounds), who may give it, which lane it takes,
which outputs it concerns, whether its commit comes before its effect, where HTTP has it, and a line of help. From it come the
checks at the desk, the HTTP call and its description, the method of the serial line, the topic of the broker, a method of the
client, a command of the command line, and the table in the docs. What a surface adds on top is comfort, never another meaning.
"""
